CREATE TABLE `_devicePeople` (
	`deviceId` varchar(64) NOT NULL,
	`person` int unsigned NOT NULL,
	CONSTRAINT `_devicePeople_deviceId` PRIMARY KEY(`deviceId`)
);
--> statement-breakpoint
CREATE TABLE `_eventColumns` (
	`day` date NOT NULL,
	`name` varchar(100) NOT NULL,
	`bytes` mediumblob NOT NULL,
	CONSTRAINT `eventColumns_key` PRIMARY KEY(`day`,`name`)
);
--> statement-breakpoint
CREATE TABLE `_eventContexts` (
	`number` int unsigned AUTO_INCREMENT NOT NULL,
	`hash` binary(16) NOT NULL,
	`properties` json NOT NULL,
	CONSTRAINT `_eventContexts_number` PRIMARY KEY(`number`),
	CONSTRAINT `eventContexts_hash` UNIQUE(`hash`)
);
--> statement-breakpoint
CREATE TABLE `_eventDays` (
	`day` date NOT NULL,
	`version` int NOT NULL,
	`rows` int NOT NULL,
	CONSTRAINT `_eventDays_day` PRIMARY KEY(`day`)
);
--> statement-breakpoint
CREATE TABLE `_eventIds` (
	`hash` binary(16) NOT NULL,
	`call` binary(8) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_eventIds_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `_eventRefusals` (
	`problem` varchar(30) NOT NULL,
	`name` varchar(100) NOT NULL,
	`client` varchar(40) NOT NULL,
	`count` int NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	`detail` varchar(500) NOT NULL,
	`sample` text NOT NULL,
	CONSTRAINT `eventRefusals_key` PRIMARY KEY(`problem`,`name`,`client`)
);
--> statement-breakpoint
CREATE TABLE `_events` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`at` datetime(3) NOT NULL,
	`receivedAt` datetime(3) NOT NULL,
	`person` int unsigned NOT NULL,
	`name` varchar(100) NOT NULL,
	`visit` int unsigned NOT NULL,
	`context` int unsigned NOT NULL,
	`userId` varchar(64),
	`deviceId` varchar(64),
	`properties` text,
	CONSTRAINT `_events_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_personDevices` (
	`person` int unsigned NOT NULL,
	`deviceId` varchar(64) NOT NULL,
	CONSTRAINT `personDevices_key` PRIMARY KEY(`person`,`deviceId`)
);
--> statement-breakpoint
CREATE TABLE `_people` (
	`number` int unsigned AUTO_INCREMENT NOT NULL,
	`userId` varchar(64),
	`became` int unsigned,
	`firstAt` datetime(3) NOT NULL,
	`erasedAt` datetime(3),
	`isGone` boolean NOT NULL DEFAULT false,
	`changedAt` datetime(3) NOT NULL,
	CONSTRAINT `_people_number` PRIMARY KEY(`number`),
	CONSTRAINT `people_user` UNIQUE(`userId`)
);
--> statement-breakpoint
CREATE TABLE `_eventPlan` (
	`name` varchar(100) NOT NULL,
	`description` varchar(500) NOT NULL,
	`owner` varchar(100) NOT NULL,
	`properties` json NOT NULL,
	CONSTRAINT `_eventPlan_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_eventProperties` (
	`event` varchar(100) NOT NULL,
	`property` varchar(63) NOT NULL,
	`type` varchar(8) NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	`misfits` int NOT NULL DEFAULT 0,
	CONSTRAINT `eventProperties_key` PRIMARY KEY(`event`,`property`,`type`)
);
--> statement-breakpoint
ALTER TABLE `_devices` ADD `manufacturer` varchar(80);--> statement-breakpoint
ALTER TABLE `_devices` ADD `region` varchar(6);--> statement-breakpoint
CREATE INDEX `eventIds_at` ON `_eventIds` (`at`);--> statement-breakpoint
CREATE INDEX `eventRefusals_last` ON `_eventRefusals` (`lastAt`);--> statement-breakpoint
CREATE INDEX `events_at` ON `_events` (`at`);--> statement-breakpoint
CREATE INDEX `events_person` ON `_events` (`person`);--> statement-breakpoint
CREATE INDEX `people_changed` ON `_people` (`changedAt`);--> statement-breakpoint
CREATE INDEX `people_became` ON `_people` (`became`);