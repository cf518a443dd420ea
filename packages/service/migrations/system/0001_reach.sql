CREATE TABLE `gatewayMappings` (
	`gatewayId` varchar(64) NOT NULL,
	`version` int NOT NULL,
	`document` json NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `gatewayMappings_gatewayId_version_pk` PRIMARY KEY(`gatewayId`,`version`)
);
--> statement-breakpoint
CREATE TABLE `notices` (
	`id` varchar(64) NOT NULL,
	`environmentId` varchar(64),
	`once` varchar(200) NOT NULL,
	`title` varchar(200) NOT NULL,
	`body` varchar(1000) NOT NULL,
	`link` varchar(300),
	`at` datetime(3) NOT NULL,
	CONSTRAINT `notices_id` PRIMARY KEY(`id`),
	CONSTRAINT `notices_once` UNIQUE(`once`)
);
--> statement-breakpoint
CREATE TABLE `noticesRead` (
	`memberId` varchar(64) NOT NULL,
	`until` datetime(3) NOT NULL,
	CONSTRAINT `noticesRead_memberId` PRIMARY KEY(`memberId`)
);
--> statement-breakpoint
ALTER TABLE `clients` ADD `project` varchar(200);--> statement-breakpoint
ALTER TABLE `gateways` ADD `id` varchar(64), ADD `name` varchar(40), ADD `stage` varchar(5), ADD `client` varchar(40), ADD `settings` json, ADD `expiresAt` datetime(3), ADD `checkedAt` datetime(3), ADD `check` json, ADD `mappingVersion` int DEFAULT 0 NOT NULL, ADD `updatedAt` datetime(3);--> statement-breakpoint
UPDATE `gateways` SET `id` = UUID(), `name` = `kind`, `stage` = 'live', `settings` = '{}', `updatedAt` = `createdAt`;--> statement-breakpoint
ALTER TABLE `gateways` ADD CONSTRAINT `gateways_name` UNIQUE(`environmentId`,`name`), DROP PRIMARY KEY, MODIFY `id` varchar(64) NOT NULL, MODIFY `name` varchar(40) NOT NULL, MODIFY `stage` varchar(5) NOT NULL, MODIFY `settings` json NOT NULL, MODIFY `updatedAt` datetime(3) NOT NULL, ADD PRIMARY KEY(`id`);--> statement-breakpoint
ALTER TABLE `gatewayMappings` ADD CONSTRAINT `gatewayMappings_gatewayId_gateways_id_fk` FOREIGN KEY (`gatewayId`) REFERENCES `gateways`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `notices` ADD CONSTRAINT `notices_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `noticesRead` ADD CONSTRAINT `noticesRead_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `notices_at` ON `notices` (`at`);