CREATE TABLE `_standingSent` (
	`standingId` varchar(64) NOT NULL,
	`record` varchar(64) NOT NULL,
	`value` varchar(30) NOT NULL,
	`at` datetime(3) NOT NULL,
	`userId` varchar(64),
	`outcome` varchar(6) NOT NULL,
	`reason` varchar(300),
	`notification` varchar(64),
	CONSTRAINT `_standingSent_standingId_record_value_pk` PRIMARY KEY(`standingId`,`record`,`value`)
);
--> statement-breakpoint
CREATE TABLE `_standing` (
	`id` varchar(64) NOT NULL,
	`name` varchar(80) NOT NULL,
	`collection` varchar(63) NOT NULL,
	`field` varchar(63) NOT NULL,
	`filter` text,
	`to` varchar(63) NOT NULL,
	`daysBefore` int,
	`at` varchar(5),
	`minutesBefore` int,
	`zone` varchar(64),
	`way` varchar(4) NOT NULL,
	`content` json NOT NULL,
	`active` boolean NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`changedAt` datetime(3) NOT NULL,
	`checkedTo` datetime(3) NOT NULL,
	`problem` varchar(500),
	CONSTRAINT `_standing_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `standing_sent_at` ON `_standingSent` (`at`);