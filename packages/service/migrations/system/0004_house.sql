CREATE TABLE `memberCredentials` (
	`id` varchar(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`kind` varchar(20) NOT NULL,
	`identifier` varchar(254) NOT NULL DEFAULT '',
	`verifier` varchar(500) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `memberCredentials_id` PRIMARY KEY(`id`),
	CONSTRAINT `memberCredentials_member` UNIQUE(`memberId`,`kind`,`identifier`)
);
--> statement-breakpoint
CREATE TABLE `dueWork` (
	`environmentId` varchar(64) NOT NULL,
	`dueAt` datetime(3) NOT NULL,
	`mark` bigint NOT NULL DEFAULT 0,
	CONSTRAINT `dueWork_environmentId` PRIMARY KEY(`environmentId`)
);
--> statement-breakpoint
CREATE TABLE IF NOT EXISTS `leases` (
	`name` varchar(120) NOT NULL,
	`owner` varchar(64) NOT NULL,
	`until` datetime(3) NOT NULL,
	CONSTRAINT `leases_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `server` varchar(40);--> statement-breakpoint
ALTER TABLE `environments` ADD `sealedKeys` varchar(200);--> statement-breakpoint
ALTER TABLE `memberCredentials` ADD CONSTRAINT `memberCredentials_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `dueWork_at` ON `dueWork` (`dueAt`);--> statement-breakpoint
INSERT INTO `memberCredentials` (`id`, `memberId`, `kind`, `verifier`, `createdAt`) SELECT UUID(), `id`, 'password', `passwordHash`, `createdAt` FROM `members`;
--> statement-breakpoint
ALTER TABLE `members` DROP COLUMN `passwordHash`;