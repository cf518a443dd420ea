CREATE TABLE `_gatewayMappings` (
	`gatewayId` varchar(64) NOT NULL,
	`version` int NOT NULL,
	`document` json NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_gatewayMappings_gatewayId_version_pk` PRIMARY KEY(`gatewayId`,`version`)
);
--> statement-breakpoint
CREATE TABLE `_gateways` (
	`id` varchar(64) NOT NULL,
	`name` varchar(40) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`stage` varchar(5) NOT NULL,
	`client` varchar(40),
	`settings` json NOT NULL,
	`sealed` text NOT NULL,
	`expiresAt` datetime(3),
	`checkedAt` datetime(3),
	`check` json,
	`refusedAt` datetime(3),
	`refusal` varchar(500),
	`mappingVersion` int NOT NULL DEFAULT 0,
	`createdAt` datetime(3) NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	CONSTRAINT `_gateways_id` PRIMARY KEY(`id`),
	CONSTRAINT `gateways_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE TABLE `_credentials` (
	`id` varchar(64) NOT NULL,
	`userId` varchar(64) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`identifier` varchar(254) NOT NULL DEFAULT '',
	`verifier` varchar(500) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_credentials_id` PRIMARY KEY(`id`),
	CONSTRAINT `credentials_user` UNIQUE(`userId`,`kind`,`identifier`)
);
--> statement-breakpoint
CREATE TABLE `_jobs` (
	`id` varchar(64) NOT NULL,
	`kind` varchar(60) NOT NULL,
	`subject` varchar(64) NOT NULL,
	`priority` smallint NOT NULL DEFAULT 0,
	`runAt` datetime(3) NOT NULL,
	`leaseUntil` datetime(3),
	`leasedBy` varchar(64),
	`attempts` int NOT NULL DEFAULT 0,
	`lastError` varchar(1000),
	`failedAt` datetime(3),
	`gaveUpAt` datetime(3),
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_jobs_id` PRIMARY KEY(`id`),
	CONSTRAINT `jobs_subject` UNIQUE(`kind`,`subject`)
);
--> statement-breakpoint
CREATE TABLE `_feedCounter` (
	`id` tinyint NOT NULL,
	`number` bigint NOT NULL,
	CONSTRAINT `_feedCounter_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `credentials_identifier` ON `_credentials` (`kind`,`identifier`);--> statement-breakpoint
CREATE INDEX `jobs_due` ON `_jobs` (`runAt`);--> statement-breakpoint
INSERT INTO `_feedCounter` (`id`, `number`) SELECT 1, COALESCE(MAX(`number`), 0) FROM `_feed`;
--> statement-breakpoint
INSERT INTO `_credentials` (`id`, `userId`, `kind`, `verifier`, `createdAt`) SELECT UUID(), `id`, 'password', `passwordHash`, `createdAt` FROM `_users`;
--> statement-breakpoint
ALTER TABLE `_users` DROP COLUMN `passwordHash`;