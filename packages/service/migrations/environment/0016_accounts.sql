CREATE TABLE `_accountMails` (
	`id` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`mail` varchar(20) NOT NULL,
	`to` varchar(254) NOT NULL,
	`locale` varchar(35) NOT NULL,
	`subject` varchar(500) NOT NULL,
	`text` text NOT NULL,
	CONSTRAINT `_accountMails_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_signInCodes` (
	`who` char(43) NOT NULL,
	`hash` char(64) NOT NULL,
	`tries` int NOT NULL,
	`sent` int NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`sentAt` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_signInCodes_who` PRIMARY KEY(`who`)
);
--> statement-breakpoint
ALTER TABLE `_users` MODIFY COLUMN `email` varchar(254);--> statement-breakpoint
ALTER TABLE `_userLinks` ADD `kind` varchar(20) DEFAULT 'new-password' NOT NULL;--> statement-breakpoint
ALTER TABLE `_userLinks` ADD `detail` varchar(254);--> statement-breakpoint
ALTER TABLE `_users` ADD `emailConfirmedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `_users` ADD `terms` varchar(40);--> statement-breakpoint
CREATE INDEX `accountMails_at` ON `_accountMails` (`at`);