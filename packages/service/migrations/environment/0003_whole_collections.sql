CREATE TABLE `_answers` (
	`key` char(43) NOT NULL,
	`fingerprint` char(43) NOT NULL,
	`status` smallint NOT NULL,
	`headers` json,
	`body` longtext,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_answers_key` PRIMARY KEY(`key`)
);
--> statement-breakpoint
CREATE TABLE `_feed` (
	`entry` bigint AUTO_INCREMENT NOT NULL,
	`number` bigint NOT NULL DEFAULT 0,
	`collection` varchar(63) NOT NULL,
	`recordId` varchar(64) NOT NULL,
	`action` varchar(8) NOT NULL,
	`version` int NOT NULL,
	`at` datetime(3) NOT NULL,
	`by` varchar(300) NOT NULL,
	`before` longtext,
	`after` longtext,
	CONSTRAINT `_feed_entry` PRIMARY KEY(`entry`)
);
--> statement-breakpoint
CREATE TABLE `_queries` (
	`collection` varchar(63) NOT NULL,
	`form` char(22) NOT NULL,
	`shape` json NOT NULL,
	`example` text NOT NULL,
	`calls` bigint NOT NULL,
	`totalUs` bigint NOT NULL,
	`worstUs` int NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `_queries_collection_form_pk` PRIMARY KEY(`collection`,`form`)
);
--> statement-breakpoint
CREATE TABLE `_sizes` (
	`collection` varchar(63) NOT NULL,
	`day` char(10) NOT NULL,
	`records` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `_sizes_collection_day_pk` PRIMARY KEY(`collection`,`day`)
);
--> statement-breakpoint
CREATE TABLE `_views` (
	`id` varchar(64) NOT NULL,
	`collection` varchar(63) NOT NULL,
	`name` varchar(80) NOT NULL,
	`query` varchar(4000) NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_views_id` PRIMARY KEY(`id`),
	CONSTRAINT `views_name` UNIQUE(`collection`,`name`)
);
--> statement-breakpoint
ALTER TABLE `_collections` ADD `definition` json;--> statement-breakpoint
CREATE INDEX `answers_at` ON `_answers` (`at`);--> statement-breakpoint
CREATE INDEX `feed_number` ON `_feed` (`number`);--> statement-breakpoint
CREATE INDEX `feed_record` ON `_feed` (`collection`,`recordId`,`version`);--> statement-breakpoint
CREATE INDEX `feed_at` ON `_feed` (`at`);