CREATE TABLE `_releases` (
	`id` varchar(64) NOT NULL,
	`state` varchar(20) NOT NULL,
	`member` json NOT NULL,
	`by` varchar(200) NOT NULL,
	`at` datetime(3) NOT NULL,
	`why` varchar(1000) NOT NULL,
	`from` varchar(200),
	`decidedBy` varchar(200),
	`decision` varchar(1000),
	`base` char(64) NOT NULL,
	`wanted` longtext NOT NULL,
	`before` longtext NOT NULL,
	`difference` longtext NOT NULL,
	`done` smallint NOT NULL DEFAULT 0,
	`total` smallint NOT NULL DEFAULT 0,
	`doing` varchar(300),
	`problem` varchar(2000),
	`endedAt` datetime(3),
	CONSTRAINT `_releases_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_setupSettings` (
	`id` tinyint NOT NULL,
	`approval` tinyint NOT NULL DEFAULT 0,
	`running` char(36),
	CONSTRAINT `_setupSettings_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `releases_at` ON `_releases` (`at`);