CREATE TABLE `_channelMessages` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`channel` varchar(200) NOT NULL,
	`data` json NOT NULL,
	`sender` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_channelMessages_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_channels` (
	`name` varchar(200) NOT NULL,
	`rules` json NOT NULL,
	`keep` int NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_channels_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_codes` (
	`number` varchar(16) NOT NULL,
	`hash` char(64) NOT NULL,
	`tries` int NOT NULL,
	`sent` int NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`sentAt` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_codes_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_follows` (
	`topic` varchar(200) NOT NULL,
	`kind` varchar(6) NOT NULL,
	`follower` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_follows_topic_kind_follower_pk` PRIMARY KEY(`topic`,`kind`,`follower`)
);
--> statement-breakpoint
CREATE TABLE `_optOuts` (
	`way` varchar(4) NOT NULL,
	`address` varchar(254) NOT NULL,
	`state` varchar(3) NOT NULL,
	`because` varchar(200) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_optOuts_way_address_pk` PRIMARY KEY(`way`,`address`)
);
--> statement-breakpoint
CREATE TABLE `_presence` (
	`channel` varchar(200) NOT NULL,
	`stream` varchar(64) NOT NULL,
	`userId` varchar(64),
	`deviceId` varchar(64),
	`since` datetime(3) NOT NULL,
	`until` datetime(3) NOT NULL,
	CONSTRAINT `_presence_channel_stream_pk` PRIMARY KEY(`channel`,`stream`)
);
--> statement-breakpoint
CREATE TABLE `_settings` (
	`name` varchar(60) NOT NULL,
	`value` json NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	CONSTRAINT `_settings_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_smsInbox` (
	`id` varchar(64) NOT NULL,
	`gateway` varchar(40) NOT NULL,
	`sender` varchar(21) NOT NULL,
	`recipient` varchar(21) NOT NULL,
	`text` text NOT NULL,
	`asked` varchar(3),
	`userId` varchar(64),
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_smsInbox_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_topics` (
	`name` varchar(200) NOT NULL,
	`title` varchar(200),
	`role` varchar(40),
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_topics_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
ALTER TABLE `_deliveries` DROP INDEX `deliveries_device`, DROP INDEX `deliveries_due`, CHANGE `deviceId` `target` varchar(254) NOT NULL, ADD `slice` int DEFAULT 0 NOT NULL, ADD `way` varchar(4) DEFAULT 'push' NOT NULL, ADD `gateway` varchar(40), ADD `userId` varchar(64), ADD `platform` varchar(10), ADD `variant` char(1) DEFAULT 'a' NOT NULL, ADD `said` varchar(300), ADD `messageId` varchar(120), ADD `segments` smallint, ADD `sentAt` datetime(3), ADD `receivedAt` datetime(3), ADD `openedAt` datetime(3);--> statement-breakpoint
UPDATE `_deliveries` d LEFT JOIN `_devices` v ON v.`id` = d.`target` SET d.`gateway` = 'web-push', d.`userId` = v.`userId`, d.`platform` = v.`platform`, d.`state` = IF(d.`state` = 'sent', 'accepted', d.`state`), d.`sentAt` = IF(d.`state` IN ('sent', 'accepted'), d.`updatedAt`, NULL);--> statement-breakpoint
ALTER TABLE `_devices` ADD `country` char(2);--> statement-breakpoint
ALTER TABLE `_devices` ADD `pushKey` varchar(16);--> statement-breakpoint
ALTER TABLE `_devices` ADD `token` varchar(1000);--> statement-breakpoint
ALTER TABLE `_devices` ADD `tokenStage` varchar(5);--> statement-breakpoint
ALTER TABLE `_devices` ADD `badge` int DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `way` varchar(4) DEFAULT 'push' NOT NULL;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `state` varchar(9) DEFAULT 'done' NOT NULL;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `options` json;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `startAt` datetime(3);--> statement-breakpoint
ALTER TABLE `_notifications` ADD `startedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `_notifications` ADD `doneAt` datetime(3);--> statement-breakpoint
ALTER TABLE `_notifications` ADD `spreadTo` varchar(254);--> statement-breakpoint
ALTER TABLE `_notifications` ADD `spread` boolean DEFAULT true NOT NULL;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `slices` int DEFAULT 1 NOT NULL;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `paceAt` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `_users` ADD `phone` varchar(16);--> statement-breakpoint
ALTER TABLE `_users` ADD `phoneVerifiedAt` datetime(3);--> statement-breakpoint
CREATE INDEX `channelMessages_channel` ON `_channelMessages` (`channel`,`number`);--> statement-breakpoint
CREATE INDEX `follows_follower` ON `_follows` (`kind`,`follower`);--> statement-breakpoint
CREATE INDEX `presence_until` ON `_presence` (`until`);--> statement-breakpoint
CREATE INDEX `smsInbox_at` ON `_smsInbox` (`at`);--> statement-breakpoint
CREATE INDEX `smsInbox_sender` ON `_smsInbox` (`sender`);--> statement-breakpoint
CREATE INDEX `deliveries_target` ON `_deliveries` (`target`,`updatedAt`);--> statement-breakpoint
CREATE INDEX `deliveries_message` ON `_deliveries` (`messageId`);--> statement-breakpoint
CREATE INDEX `notifications_state` ON `_notifications` (`state`);--> statement-breakpoint
CREATE INDEX `users_phone` ON `_users` (`phone`);--> statement-breakpoint
CREATE INDEX `deliveries_due` ON `_deliveries` (`notificationId`,`state`,`slice`,`nextAttemptAt`);--> statement-breakpoint
UPDATE `_notifications` SET `startedAt` = `createdAt`, `state` = IF(EXISTS (SELECT 1 FROM `_deliveries` d WHERE d.`notificationId` = `_notifications`.`id` AND d.`state` = 'queued'), 'sending', 'done');