CREATE TABLE `automationTokenRoles` (
	`tokenId` varchar(64) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`role` varchar(12) NOT NULL,
	CONSTRAINT `automationTokenRoles_tokenId_environmentId_pk` PRIMARY KEY(`tokenId`,`environmentId`)
);
--> statement-breakpoint
CREATE TABLE `automationTokens` (
	`id` varchar(64) NOT NULL,
	`name` varchar(100) NOT NULL,
	`hash` char(64) NOT NULL,
	`hint` char(6) NOT NULL,
	`createdBy` varchar(120) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	`lastUsedAt` datetime(3),
	`lastUsedFrom` varchar(45),
	`revokedAt` datetime(3),
	CONSTRAINT `automationTokens_id` PRIMARY KEY(`id`),
	CONSTRAINT `automationTokens_hash_unique` UNIQUE(`hash`)
);
--> statement-breakpoint
CREATE TABLE `memberChallenges` (
	`hash` char(64) NOT NULL,
	`memberId` varchar(64),
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `memberChallenges_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `memberFactors` (
	`id` varchar(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`name` varchar(100) NOT NULL,
	`sealed` varchar(300),
	`lastStep` int,
	`drift` int NOT NULL DEFAULT 0,
	`credentialHash` char(64),
	`credentialId` text,
	`publicKey` text,
	`counter` int unsigned NOT NULL DEFAULT 0,
	`transports` json,
	`createdAt` datetime(3) NOT NULL,
	`confirmedAt` datetime(3),
	`lastUsedAt` datetime(3),
	CONSTRAINT `memberFactors_id` PRIMARY KEY(`id`),
	CONSTRAINT `memberFactors_credentialHash_unique` UNIQUE(`credentialHash`)
);
--> statement-breakpoint
CREATE TABLE `memberRecoveryCodes` (
	`memberId` varchar(64) NOT NULL,
	`hash` char(64) NOT NULL,
	CONSTRAINT `memberRecoveryCodes_memberId_hash_pk` PRIMARY KEY(`memberId`,`hash`)
);
--> statement-breakpoint
CREATE TABLE `_auditHead` (
	`id` tinyint NOT NULL,
	`number` bigint NOT NULL,
	`mac` varchar(43) NOT NULL,
	`seal` varchar(43) NOT NULL,
	CONSTRAINT `_auditHead_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_audit` (
	`number` bigint NOT NULL,
	`id` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`actor` varchar(120) NOT NULL,
	`address` varchar(45),
	`request` char(36),
	`app` varchar(40),
	`environment` varchar(40),
	`action` varchar(60) NOT NULL,
	`kind` varchar(30) NOT NULL,
	`subject` varchar(300) NOT NULL,
	`outcome` varchar(10) NOT NULL,
	`before` longtext,
	`after` longtext,
	`mac` char(43) NOT NULL,
	CONSTRAINT `_audit_number` PRIMARY KEY(`number`),
	CONSTRAINT `_audit_id_unique` UNIQUE(`id`)
);
--> statement-breakpoint
CREATE TABLE `memberMessages` (
	`id` varchar(64) NOT NULL,
	`wayId` varchar(64) NOT NULL,
	`title` varchar(200) NOT NULL,
	`body` varchar(1000) NOT NULL,
	`link` varchar(300),
	`urgent` boolean NOT NULL,
	`state` varchar(10) NOT NULL,
	`reason` varchar(500),
	`createdAt` datetime(3) NOT NULL,
	`sentAt` datetime(3),
	CONSTRAINT `memberMessages_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `memberWays` (
	`id` varchar(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`name` varchar(100) NOT NULL,
	`address` text NOT NULL,
	`p256dh` varchar(100),
	`auth` varchar(40),
	`pushKey` varchar(64),
	`verifiedAt` datetime(3),
	`codeHash` char(64),
	`codeExpiresAt` datetime(3),
	`codeAttempts` int NOT NULL DEFAULT 0,
	`quietFrom` char(5),
	`quietUntil` char(5),
	`timeZone` varchar(60) NOT NULL,
	`urgentAnyway` boolean NOT NULL DEFAULT true,
	`createdAt` datetime(3) NOT NULL,
	`lastSentAt` datetime(3),
	`lastFailure` varchar(500),
	CONSTRAINT `memberWays_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `apps` ADD `secondFactor` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `memberSessions` ADD `confirmedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `automationTokenRoles` ADD CONSTRAINT `automationTokenRoles_tokenId_automationTokens_id_fk` FOREIGN KEY (`tokenId`) REFERENCES `automationTokens`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `automationTokenRoles` ADD CONSTRAINT `automationTokenRoles_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberChallenges` ADD CONSTRAINT `memberChallenges_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberFactors` ADD CONSTRAINT `memberFactors_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberRecoveryCodes` ADD CONSTRAINT `memberRecoveryCodes_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberMessages` ADD CONSTRAINT `memberMessages_wayId_memberWays_id_fk` FOREIGN KEY (`wayId`) REFERENCES `memberWays`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberWays` ADD CONSTRAINT `memberWays_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `memberChallenges_at` ON `memberChallenges` (`expiresAt`);--> statement-breakpoint
CREATE INDEX `memberFactors_member` ON `memberFactors` (`memberId`);--> statement-breakpoint
CREATE INDEX `audit_at` ON `_audit` (`at`);--> statement-breakpoint
CREATE INDEX `audit_subject` ON `_audit` (`kind`,`subject`);--> statement-breakpoint
CREATE INDEX `memberMessages_way` ON `memberMessages` (`wayId`,`createdAt`);--> statement-breakpoint
CREATE INDEX `memberWays_member` ON `memberWays` (`memberId`);