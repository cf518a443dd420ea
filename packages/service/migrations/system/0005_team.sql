CREATE TABLE `memberInvitations` (
	`memberId` varchar(64) NOT NULL,
	`tokenHash` char(64) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `memberInvitations_memberId` PRIMARY KEY(`memberId`),
	CONSTRAINT `memberInvitations_tokenHash_unique` UNIQUE(`tokenHash`)
);
--> statement-breakpoint
CREATE TABLE `memberMailChanges` (
	`memberId` varchar(64) NOT NULL,
	`tokenHash` char(64) NOT NULL,
	`email` varchar(254) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `memberMailChanges_memberId` PRIMARY KEY(`memberId`),
	CONSTRAINT `memberMailChanges_tokenHash_unique` UNIQUE(`tokenHash`)
);
--> statement-breakpoint
ALTER TABLE `memberSessions` ADD `lastSeenAt` datetime(3);--> statement-breakpoint
ALTER TABLE `memberSessions` ADD `address` varchar(45);--> statement-breakpoint
ALTER TABLE `memberSessions` ADD `userAgent` varchar(300);--> statement-breakpoint
ALTER TABLE `members` ADD `joinedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `members` ADD `lastSeenAt` datetime(3);--> statement-breakpoint
ALTER TABLE `memberInvitations` ADD CONSTRAINT `memberInvitations_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberMailChanges` ADD CONSTRAINT `memberMailChanges_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
UPDATE `members` SET `joinedAt` = `createdAt`;