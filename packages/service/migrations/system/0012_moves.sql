CREATE TABLE `moves` (
	`id` varchar(64) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`state` varchar(12) NOT NULL,
	`from` varchar(40),
	`to` varchar(40),
	`by` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	`endedAt` datetime(3),
	`doing` varchar(200),
	`problem` varchar(2000),
	`rows` bigint NOT NULL DEFAULT 0,
	`caughtUp` bigint NOT NULL DEFAULT 0,
	`pauseMs` int,
	`notes` json NOT NULL,
	CONSTRAINT `moves_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `moving` varchar(64);--> statement-breakpoint
CREATE INDEX `moves_environment` ON `moves` (`environmentId`,`at`);