CREATE TABLE `digestReaders` (
	`id` varchar(64) NOT NULL,
	`digestId` varchar(64) NOT NULL,
	`memberId` varchar(64),
	`address` varchar(254),
	`timeZone` varchar(60) NOT NULL,
	`tokenHash` char(64),
	`confirmedAt` datetime(3),
	`nextAt` datetime(3),
	`lastSentAt` datetime(3),
	`lastFailure` varchar(500),
	CONSTRAINT `digestReaders_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `digests` (
	`id` varchar(64) NOT NULL,
	`name` varchar(80) NOT NULL,
	`settings` json NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `digests_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `digestReaders` ADD CONSTRAINT `digestReaders_digestId_digests_id_fk` FOREIGN KEY (`digestId`) REFERENCES `digests`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `digestReaders` ADD CONSTRAINT `digestReaders_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `digests` ADD CONSTRAINT `digests_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `digestReaders_digest` ON `digestReaders` (`digestId`);--> statement-breakpoint
CREATE INDEX `digestReaders_next` ON `digestReaders` (`nextAt`);--> statement-breakpoint
CREATE INDEX `digestReaders_token` ON `digestReaders` (`tokenHash`);