CREATE TABLE `_alertLinks` (
	`tokenHash` char(64) NOT NULL,
	`incidentId` varchar(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_alertLinks_tokenHash` PRIMARY KEY(`tokenHash`)
);
--> statement-breakpoint
CREATE TABLE `_incidentHappenings` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`incidentId` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`text` varchar(2100) NOT NULL,
	`by` varchar(200) NOT NULL,
	CONSTRAINT `_incidentHappenings_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_incidents` (
	`id` varchar(64) NOT NULL,
	`subject` varchar(60) NOT NULL,
	`openSubject` varchar(60),
	`title` varchar(300) NOT NULL,
	`condition` varchar(10) NOT NULL,
	`openedAt` datetime(3) NOT NULL,
	`closedAt` datetime(3),
	`acknowledgedAt` datetime(3),
	`acknowledgedBy` varchar(200),
	`progress` json NOT NULL,
	CONSTRAINT `_incidents_id` PRIMARY KEY(`id`),
	CONSTRAINT `incidents_open` UNIQUE(`openSubject`)
);
--> statement-breakpoint
CREATE TABLE `_errorPeople` (
	`errorId` varchar(64) NOT NULL,
	`person` varchar(66) NOT NULL,
	`at` datetime NOT NULL,
	CONSTRAINT `error_people_key` PRIMARY KEY(`errorId`,`person`)
);
--> statement-breakpoint
CREATE TABLE `_errors` (
	`id` varchar(64) NOT NULL,
	`cause` char(64) NOT NULL,
	`name` varchar(200) NOT NULL,
	`message` varchar(1000) NOT NULL,
	`place` varchar(300) NOT NULL,
	`count` int NOT NULL,
	`versions` json NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	`settledAt` datetime(3),
	`settledIn` varchar(40),
	`backAt` datetime(3),
	CONSTRAINT `_errors_id` PRIMARY KEY(`id`),
	CONSTRAINT `errors_cause` UNIQUE(`cause`)
);
--> statement-breakpoint
CREATE TABLE `_logEntries` (
	`at` datetime(3) NOT NULL,
	`id` char(36) NOT NULL,
	`level` tinyint NOT NULL,
	`source` varchar(60) NOT NULL,
	`text` varchar(4000) NOT NULL,
	`fields` text,
	`trace` char(32),
	`deviceId` varchar(64),
	`userId` varchar(64),
	`version` varchar(40),
	`error` varchar(64),
	CONSTRAINT `log_key` PRIMARY KEY(`at`,`id`)
);
--> statement-breakpoint
CREATE TABLE `_sourceMaps` (
	`version` varchar(40) NOT NULL,
	`file` varchar(200) NOT NULL,
	`map` mediumtext NOT NULL,
	`sources` int NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `source_maps_key` PRIMARY KEY(`version`,`file`)
);
--> statement-breakpoint
CREATE TABLE `_conditionChanges` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`at` datetime(3) NOT NULL,
	`condition` varchar(10) NOT NULL,
	`objective` varchar(40),
	`value` double,
	`text` text,
	CONSTRAINT `_conditionChanges_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_objectiveSets` (
	`version` int NOT NULL,
	`items` json NOT NULL,
	`at` datetime(3) NOT NULL,
	`actor` varchar(200) NOT NULL,
	`why` varchar(500),
	CONSTRAINT `_objectiveSets_version` PRIMARY KEY(`version`)
);
--> statement-breakpoint
CREATE TABLE `_plannedWork` (
	`id` varchar(64) NOT NULL,
	`from` datetime(3) NOT NULL,
	`until` datetime(3) NOT NULL,
	`why` varchar(500) NOT NULL,
	`by` varchar(200) NOT NULL,
	CONSTRAINT `_plannedWork_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_requestCells` (
	`at` datetime NOT NULL,
	`kind` varchar(8) NOT NULL DEFAULT 'call',
	`method` varchar(7) NOT NULL,
	`route` varchar(120) NOT NULL,
	`target` varchar(64) NOT NULL DEFAULT '',
	`client` varchar(40) NOT NULL,
	`status` smallint NOT NULL,
	`problem` varchar(40) NOT NULL DEFAULT '',
	`instance` varchar(16) NOT NULL,
	`calls` int NOT NULL,
	`sumUs` bigint NOT NULL DEFAULT 0,
	`histogram` text NOT NULL,
	`writtenAt` datetime(3) NOT NULL DEFAULT (UTC_TIMESTAMP(3)),
	CONSTRAINT `cells_key` PRIMARY KEY(`at`,`kind`,`method`,`route`,`target`,`client`,`status`,`problem`,`instance`)
);
--> statement-breakpoint
CREATE TABLE `_requestDays` (
	`at` datetime NOT NULL,
	`kind` varchar(8) NOT NULL DEFAULT 'call',
	`method` varchar(7) NOT NULL,
	`route` varchar(120) NOT NULL,
	`target` varchar(64) NOT NULL DEFAULT '',
	`client` varchar(40) NOT NULL,
	`status` smallint NOT NULL,
	`problem` varchar(40) NOT NULL DEFAULT '',
	`calls` int NOT NULL,
	`sumUs` bigint NOT NULL DEFAULT 0,
	`histogram` text NOT NULL,
	`writtenAt` datetime(3) NOT NULL DEFAULT (UTC_TIMESTAMP(3)),
	CONSTRAINT `days_key` PRIMARY KEY(`at`,`kind`,`method`,`route`,`target`,`client`,`status`,`problem`)
);
--> statement-breakpoint
CREATE TABLE `_requestHours` (
	`at` datetime NOT NULL,
	`kind` varchar(8) NOT NULL DEFAULT 'call',
	`method` varchar(7) NOT NULL,
	`route` varchar(120) NOT NULL,
	`target` varchar(64) NOT NULL DEFAULT '',
	`client` varchar(40) NOT NULL,
	`status` smallint NOT NULL,
	`problem` varchar(40) NOT NULL DEFAULT '',
	`calls` int NOT NULL,
	`sumUs` bigint NOT NULL DEFAULT 0,
	`histogram` text NOT NULL,
	`writtenAt` datetime(3) NOT NULL DEFAULT (UTC_TIMESTAMP(3)),
	CONSTRAINT `hours_key` PRIMARY KEY(`at`,`kind`,`method`,`route`,`target`,`client`,`status`,`problem`)
);
--> statement-breakpoint
CREATE TABLE `_searches` (
	`id` varchar(64) NOT NULL,
	`list` varchar(10) NOT NULL,
	`name` varchar(60) NOT NULL,
	`query` varchar(4000) NOT NULL,
	`by` varchar(200) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_searches_id` PRIMARY KEY(`id`),
	CONSTRAINT `searches_name` UNIQUE(`list`,`name`)
);
--> statement-breakpoint
-- One rebuild of the table instead of seven; the columns come before the key that has them.
ALTER TABLE `_requestMinutes`
	ADD `kind` varchar(8) DEFAULT 'call' NOT NULL AFTER `minute`,
	ADD `target` varchar(64) DEFAULT '' NOT NULL AFTER `route`,
	ADD `problem` varchar(40) DEFAULT '' NOT NULL AFTER `status`,
	ADD `sumUs` bigint DEFAULT 0 NOT NULL AFTER `calls`,
	ADD `writtenAt` datetime(3) DEFAULT (UTC_TIMESTAMP(3)) NOT NULL,
	DROP PRIMARY KEY,
	ADD PRIMARY KEY(`minute`,`kind`,`method`,`route`,`target`,`client`,`status`,`problem`,`instance`);--> statement-breakpoint
ALTER TABLE `_requests`
	ADD `target` varchar(64),
	ADD `version` varchar(40),
	ADD `keptOf` smallint DEFAULT 1 NOT NULL,
	ADD `timeline` text,
	ADD `headers` text,
	ADD `bodies` text;--> statement-breakpoint
CREATE INDEX `happenings_incident` ON `_incidentHappenings` (`incidentId`);--> statement-breakpoint
CREATE INDEX `incidents_opened` ON `_incidents` (`openedAt`);--> statement-breakpoint
CREATE INDEX `log_trace` ON `_logEntries` (`trace`);--> statement-breakpoint
CREATE INDEX `log_error` ON `_logEntries` (`error`);--> statement-breakpoint
CREATE INDEX `condition_changes_at` ON `_conditionChanges` (`at`);--> statement-breakpoint
CREATE INDEX `planned_until` ON `_plannedWork` (`until`);--> statement-breakpoint
CREATE INDEX `cells_written` ON `_requestCells` (`writtenAt`);--> statement-breakpoint
CREATE INDEX `hours_written` ON `_requestHours` (`writtenAt`);--> statement-breakpoint
CREATE INDEX `minutes_written` ON `_requestMinutes` (`writtenAt`);--> statement-breakpoint
ALTER TABLE `_logEntries` PARTITION BY RANGE (TO_DAYS(`at`)) (PARTITION `later` VALUES LESS THAN MAXVALUE);
