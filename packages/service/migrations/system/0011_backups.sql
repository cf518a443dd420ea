CREATE TABLE `backups` (
	`id` varchar(64) NOT NULL,
	`app` varchar(40) NOT NULL,
	`environment` varchar(40) NOT NULL,
	`state` varchar(10) NOT NULL,
	`place` varchar(300) NOT NULL,
	`by` varchar(300) NOT NULL,
	`note` varchar(300) NOT NULL,
	`askedAt` datetime(3) NOT NULL,
	`at` datetime(3),
	`endedAt` datetime(3),
	`doing` varchar(200),
	`problem` varchar(2000),
	`keyMark` varchar(12),
	`rows` bigint NOT NULL DEFAULT 0,
	`bytes` bigint NOT NULL DEFAULT 0,
	`files` bigint NOT NULL DEFAULT 0,
	`fileBytes` bigint NOT NULL DEFAULT 0,
	`newBytes` bigint NOT NULL DEFAULT 0,
	`provedAt` datetime(3),
	`isWhole` boolean,
	`proof` varchar(2000),
	`proofMs` int,
	CONSTRAINT `backups_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `erasures` (
	`app` varchar(40) NOT NULL,
	`environment` varchar(40) NOT NULL,
	`userId` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`kept` boolean NOT NULL DEFAULT false,
	CONSTRAINT `erasures_app_environment_userId_pk` PRIMARY KEY(`app`,`environment`,`userId`)
);
--> statement-breakpoint
CREATE TABLE `restores` (
	`id` varchar(64) NOT NULL,
	`app` varchar(40) NOT NULL,
	`environment` varchar(40) NOT NULL,
	`backup` varchar(64) NOT NULL,
	`wish` json NOT NULL,
	`state` varchar(10) NOT NULL,
	`by` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	`endedAt` datetime(3),
	`doing` varchar(200),
	`problem` varchar(2000),
	`filling` varchar(64),
	`replaced` varchar(64),
	`replacedRow` json,
	`replacedUntil` datetime(3),
	`rows` bigint NOT NULL DEFAULT 0,
	`notes` json NOT NULL,
	CONSTRAINT `restores_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `sealedFor` varchar(64);--> statement-breakpoint
CREATE INDEX `backups_environment` ON `backups` (`app`,`environment`,`askedAt`);--> statement-breakpoint
CREATE INDEX `erasures_kept` ON `erasures` (`kept`);--> statement-breakpoint
CREATE INDEX `restores_environment` ON `restores` (`app`,`environment`,`at`);