CREATE TABLE `apps` (
	`name` varchar(40) NOT NULL,
	`title` varchar(100) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `apps_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `blockedOrigins` (
	`environmentId` varchar(64) NOT NULL,
	`client` varchar(40) NOT NULL,
	`origin` varchar(253) NOT NULL,
	`count` int NOT NULL,
	`lastRoute` varchar(200) NOT NULL,
	`firstAt` datetime(3) NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `blockedOrigins_environmentId_client_origin_pk` PRIMARY KEY(`environmentId`,`client`,`origin`)
);
--> statement-breakpoint
CREATE TABLE `clients` (
	`environmentId` varchar(64) NOT NULL,
	`name` varchar(40) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`storeId` varchar(200),
	`origins` json NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `clients_environmentId_name_pk` PRIMARY KEY(`environmentId`,`name`)
);
--> statement-breakpoint
CREATE TABLE `environments` (
	`id` varchar(64) NOT NULL,
	`app` varchar(40) NOT NULL,
	`name` varchar(40) NOT NULL,
	`mode` varchar(10) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `environments_id` PRIMARY KEY(`id`),
	CONSTRAINT `environments_name` UNIQUE(`app`,`name`)
);
--> statement-breakpoint
CREATE TABLE `gateways` (
	`environmentId` varchar(64) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`sealed` text NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `gateways_environmentId_kind_pk` PRIMARY KEY(`environmentId`,`kind`)
);
--> statement-breakpoint
CREATE TABLE `jobs` (
	`id` varchar(64) NOT NULL,
	`kind` varchar(40) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`subject` varchar(64) NOT NULL,
	`runAt` datetime(3) NOT NULL,
	`leaseUntil` datetime(3),
	`leasedBy` varchar(64),
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `jobs_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `keys` (
	`id` varchar(64) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`client` varchar(40) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`name` varchar(100) NOT NULL,
	`scopes` json NOT NULL,
	`hash` char(64) NOT NULL,
	`hint` char(6) NOT NULL,
	`sealed` text,
	`createdAt` datetime(3) NOT NULL,
	`lastUsedAt` datetime(3),
	`revokedAt` datetime(3),
	CONSTRAINT `keys_id` PRIMARY KEY(`id`),
	CONSTRAINT `keys_hash` UNIQUE(`hash`)
);
--> statement-breakpoint
CREATE TABLE `memberRoles` (
	`memberId` varchar(64) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`role` varchar(12) NOT NULL,
	CONSTRAINT `memberRoles_memberId_environmentId_pk` PRIMARY KEY(`memberId`,`environmentId`)
);
--> statement-breakpoint
CREATE TABLE `memberSessions` (
	`tokenHash` char(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `memberSessions_tokenHash` PRIMARY KEY(`tokenHash`)
);
--> statement-breakpoint
CREATE TABLE `members` (
	`id` varchar(64) NOT NULL,
	`email` varchar(254) NOT NULL,
	`name` varchar(100) NOT NULL,
	`passwordHash` varchar(255) NOT NULL,
	`owner` boolean NOT NULL DEFAULT false,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `members_id` PRIMARY KEY(`id`),
	CONSTRAINT `members_email` UNIQUE(`email`)
);
--> statement-breakpoint
CREATE TABLE `settings` (
	`name` varchar(60) NOT NULL,
	`value` text NOT NULL,
	CONSTRAINT `settings_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
ALTER TABLE `blockedOrigins` ADD CONSTRAINT `blockedOrigins_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `clients` ADD CONSTRAINT `clients_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `environments` ADD CONSTRAINT `environments_app_apps_name_fk` FOREIGN KEY (`app`) REFERENCES `apps`(`name`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `gateways` ADD CONSTRAINT `gateways_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `jobs` ADD CONSTRAINT `jobs_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `keys` ADD CONSTRAINT `keys_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberRoles` ADD CONSTRAINT `memberRoles_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberRoles` ADD CONSTRAINT `memberRoles_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `memberSessions` ADD CONSTRAINT `memberSessions_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `jobs_due` ON `jobs` (`runAt`);--> statement-breakpoint
CREATE INDEX `keys_client` ON `keys` (`environmentId`,`client`);