CREATE TABLE `arrivals` (
	`id` varchar(64) NOT NULL,
	`ticketHash` varchar(64) NOT NULL,
	`state` varchar(12) NOT NULL,
	`app` varchar(40),
	`environment` varchar(40),
	`environmentId` varchar(64),
	`backup` varchar(64),
	`sealedKey` varchar(300),
	`by` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	`endedAt` datetime(3),
	`doing` varchar(200),
	`problem` varchar(2000),
	`notes` json NOT NULL,
	CONSTRAINT `arrivals_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `movedTo` varchar(300);--> statement-breakpoint
ALTER TABLE `moves` ADD `installation` varchar(300);--> statement-breakpoint
ALTER TABLE `moves` ADD `sealedTicket` varchar(500);--> statement-breakpoint
CREATE INDEX `arrivals_ticket` ON `arrivals` (`ticketHash`);--> statement-breakpoint
CREATE INDEX `arrivals_at` ON `arrivals` (`at`);