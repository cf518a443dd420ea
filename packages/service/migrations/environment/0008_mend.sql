CREATE TABLE `_endedRecords` (
	`collection` varchar(63) NOT NULL,
	`recordId` varchar(64) NOT NULL,
	`version` int NOT NULL,
	CONSTRAINT `_endedRecords_collection_recordId_pk` PRIMARY KEY(`collection`,`recordId`)
);
--> statement-breakpoint
CREATE TABLE `_guesses` (
	`who` char(43) NOT NULL,
	`failures` int NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `_guesses_who` PRIMARY KEY(`who`)
);
--> statement-breakpoint
CREATE TABLE `_userLinks` (
	`tokenHash` char(64) NOT NULL,
	`userId` varchar(64) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_userLinks_tokenHash` PRIMARY KEY(`tokenHash`)
);
--> statement-breakpoint
ALTER TABLE `_devices` ADD `secretHash` char(64);--> statement-breakpoint
ALTER TABLE `_sessions` ADD `renewedAt` datetime(3);--> statement-breakpoint
CREATE INDEX `guesses_at` ON `_guesses` (`lastAt`);--> statement-breakpoint
CREATE INDEX `userLinks_user` ON `_userLinks` (`userId`);--> statement-breakpoint
CREATE INDEX `devices_updated` ON `_devices` (`updatedAt`);--> statement-breakpoint
CREATE INDEX `users_updated` ON `_users` (`updatedAt`);