CREATE TABLE `dueWork` (
	`environmentId` varchar(64) NOT NULL,
	`dueAt` datetime(3) NOT NULL,
	`mark` bigint NOT NULL DEFAULT 0,
	CONSTRAINT `dueWork_environmentId` PRIMARY KEY(`environmentId`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `server` varchar(40);--> statement-breakpoint
ALTER TABLE `environments` ADD `sealedKeys` varchar(200);--> statement-breakpoint
CREATE INDEX `dueWork_at` ON `dueWork` (`dueAt`);