CREATE TABLE `_changes` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`collection` varchar(63) NOT NULL,
	`recordId` varchar(64) NOT NULL,
	`action` varchar(8) NOT NULL,
	`version` int NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_changes_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_collections` (
	`name` varchar(63) NOT NULL,
	`rules` json NOT NULL,
	`revision` int NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_collections_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_deliveries` (
	`notificationId` varchar(64) NOT NULL,
	`deviceId` varchar(64) NOT NULL,
	`state` varchar(8) NOT NULL,
	`reason` varchar(300),
	`attempts` int NOT NULL DEFAULT 0,
	`answer` smallint,
	`nextAttemptAt` datetime(3),
	`updatedAt` datetime(3) NOT NULL,
	CONSTRAINT `_deliveries_notificationId_deviceId_pk` PRIMARY KEY(`notificationId`,`deviceId`)
);
--> statement-breakpoint
CREATE TABLE `_devices` (
	`id` varchar(64) NOT NULL,
	`userId` varchar(64),
	`client` varchar(40),
	`platform` varchar(10) NOT NULL,
	`appVersion` varchar(40) NOT NULL,
	`os` varchar(80) NOT NULL,
	`model` varchar(80),
	`locale` varchar(35) NOT NULL,
	`timeZone` varchar(64) NOT NULL,
	`permission` varchar(10) NOT NULL,
	`endpoint` varchar(1000),
	`p256dh` char(87),
	`auth` char(22),
	`retiredAt` datetime(3),
	`retiredReason` varchar(200),
	`createdAt` datetime(3) NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	`lastSeenAt` datetime(3) NOT NULL,
	CONSTRAINT `_devices_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_requestMinutes` (
	`minute` datetime NOT NULL,
	`method` varchar(7) NOT NULL,
	`route` varchar(120) NOT NULL,
	`client` varchar(40) NOT NULL,
	`status` smallint NOT NULL,
	`instance` varchar(16) NOT NULL,
	`calls` int NOT NULL,
	`histogram` text NOT NULL,
	CONSTRAINT `_requestMinutes_minute_method_route_client_status_instance_pk` PRIMARY KEY(`minute`,`method`,`route`,`client`,`status`,`instance`)
);
--> statement-breakpoint
CREATE TABLE `_notifications` (
	`id` varchar(64) NOT NULL,
	`content` json NOT NULL,
	`audience` json NOT NULL,
	`urgency` varchar(10) NOT NULL,
	`ttlS` int NOT NULL,
	`replaces` varchar(32),
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_notifications_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_requests` (
	`id` char(36) NOT NULL,
	`at` datetime(3) NOT NULL,
	`method` varchar(7) NOT NULL,
	`route` varchar(120) NOT NULL,
	`path` varchar(500) NOT NULL,
	`status` smallint NOT NULL,
	`durationUs` int NOT NULL,
	`databaseUs` int NOT NULL,
	`statements` smallint NOT NULL,
	`client` varchar(40),
	`keyId` varchar(64),
	`userId` varchar(64),
	`deviceId` varchar(64),
	`trace` char(32) NOT NULL,
	`span` char(16) NOT NULL,
	`parentSpan` char(16),
	`problem` varchar(40),
	`detail` text,
	`origin` varchar(253),
	`userAgent` varchar(300),
	`bytesIn` int NOT NULL,
	`bytesOut` int NOT NULL,
	CONSTRAINT `_requests_at_id_pk` PRIMARY KEY(`at`,`id`)
);
--> statement-breakpoint
CREATE TABLE `_sessions` (
	`id` varchar(64) NOT NULL,
	`userId` varchar(64) NOT NULL,
	`client` varchar(40) NOT NULL,
	`generation` int NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	`endedAt` datetime(3),
	`endedReason` varchar(40),
	CONSTRAINT `_sessions_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_users` (
	`id` varchar(64) NOT NULL,
	`email` varchar(254) NOT NULL,
	`name` varchar(200),
	`passwordHash` varchar(255) NOT NULL,
	`roles` json NOT NULL,
	`data` json NOT NULL,
	`disabled` boolean NOT NULL DEFAULT false,
	`createdAt` datetime(3) NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	`lastSeenAt` datetime(3),
	CONSTRAINT `_users_id` PRIMARY KEY(`id`),
	CONSTRAINT `users_email` UNIQUE(`email`)
);
--> statement-breakpoint
CREATE INDEX `changes_record` ON `_changes` (`collection`,`recordId`);--> statement-breakpoint
CREATE INDEX `deliveries_due` ON `_deliveries` (`notificationId`,`state`,`nextAttemptAt`);--> statement-breakpoint
CREATE INDEX `deliveries_device` ON `_deliveries` (`deviceId`,`updatedAt`);--> statement-breakpoint
CREATE INDEX `deliveries_changed` ON `_deliveries` (`updatedAt`);--> statement-breakpoint
CREATE INDEX `devices_user` ON `_devices` (`userId`);--> statement-breakpoint
CREATE INDEX `devices_seen` ON `_devices` (`lastSeenAt`);--> statement-breakpoint
CREATE INDEX `sessions_user` ON `_sessions` (`userId`);--> statement-breakpoint
CREATE INDEX `users_created` ON `_users` (`createdAt`);