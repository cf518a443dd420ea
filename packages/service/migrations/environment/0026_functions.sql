CREATE TABLE `_functionRuns` (
	`id` varchar(64) NOT NULL,
	`name` varchar(40) NOT NULL,
	`version` int NOT NULL,
	`at` datetime(3) NOT NULL,
	`durationUs` int NOT NULL,
	`cpuUs` int NOT NULL,
	`outcome` varchar(8) NOT NULL,
	`failed` boolean NOT NULL,
	`status` int,
	`error` text,
	`details` json NOT NULL,
	`userId` varchar(64),
	CONSTRAINT `_functionRuns_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_functions` (
	`name` varchar(40) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`path` varchar(200) NOT NULL,
	`methods` json NOT NULL,
	`callers` varchar(10) NOT NULL,
	`rights` varchar(6) NOT NULL,
	`hosts` json NOT NULL,
	`version` int NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`changedAt` datetime(3) NOT NULL,
	CONSTRAINT `_functions_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_functionVersions` (
	`name` varchar(40) NOT NULL,
	`version` int NOT NULL,
	`files` json NOT NULL,
	`built` mediumtext NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_functionVersions_name_version_pk` PRIMARY KEY(`name`,`version`)
);
--> statement-breakpoint
CREATE TABLE `_secrets` (
	`name` varchar(40) NOT NULL,
	`sealed` text NOT NULL,
	`changedBy` varchar(300) NOT NULL,
	`changedAt` datetime(3) NOT NULL,
	CONSTRAINT `_secrets_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE INDEX `function_runs_name` ON `_functionRuns` (`name`,`at`);--> statement-breakpoint
CREATE INDEX `function_runs_at` ON `_functionRuns` (`at`);