CREATE TABLE `_userChallenges` (
	`hash` char(64) NOT NULL,
	`userId` varchar(64),
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_userChallenges_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `_userFactors` (
	`id` varchar(64) NOT NULL,
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
	`userId` varchar(64) NOT NULL,
	CONSTRAINT `_userFactors_id` PRIMARY KEY(`id`),
	CONSTRAINT `_userFactors_credentialHash_unique` UNIQUE(`credentialHash`)
);
--> statement-breakpoint
CREATE TABLE `_userRecoveryCodes` (
	`userId` varchar(64) NOT NULL,
	`hash` char(64) NOT NULL,
	CONSTRAINT `_userRecoveryCodes_userId_hash_pk` PRIMARY KEY(`userId`,`hash`)
);
--> statement-breakpoint
CREATE TABLE `_providerTokens` (
	`credentialId` varchar(64) NOT NULL,
	`userId` varchar(64) NOT NULL,
	`way` varchar(40) NOT NULL,
	`sealed` text NOT NULL,
	`expiresAt` datetime(3),
	`refreshAt` datetime(3),
	CONSTRAINT `_providerTokens_credentialId` PRIMARY KEY(`credentialId`)
);
--> statement-breakpoint
ALTER TABLE `_outsideSignIns` MODIFY COLUMN `verifier` text NOT NULL;--> statement-breakpoint
ALTER TABLE `_credentials` MODIFY COLUMN `verifier` varchar(2000) NOT NULL;--> statement-breakpoint
ALTER TABLE `_sessions` ADD `supportBy` varchar(64);--> statement-breakpoint
ALTER TABLE `_users` ADD `roleOrigins` json;--> statement-breakpoint
CREATE INDEX `userChallenges_at` ON `_userChallenges` (`expiresAt`);--> statement-breakpoint
CREATE INDEX `userFactors_user` ON `_userFactors` (`userId`);--> statement-breakpoint
CREATE INDEX `providerTokens_user` ON `_providerTokens` (`userId`);--> statement-breakpoint
CREATE INDEX `providerTokens_refresh` ON `_providerTokens` (`refreshAt`);--> statement-breakpoint
UPDATE `_credentials` SET `kind` = 'provider' WHERE `kind` = 'openid';