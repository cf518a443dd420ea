CREATE TABLE `_contents` (
	`digest` char(64) NOT NULL,
	`size` bigint NOT NULL,
	`keptAt` datetime(3) NOT NULL,
	`verifiedAt` datetime(3) NOT NULL,
	`damagedAt` datetime(3),
	CONSTRAINT `_contents_digest` PRIMARY KEY(`digest`)
);
--> statement-breakpoint
CREATE TABLE `_deletedFiles` (
	`id` varchar(64) NOT NULL,
	`path` varchar(1000) NOT NULL,
	`record` json NOT NULL,
	`ownerId` varchar(64),
	`digest` char(64) NOT NULL,
	`size` bigint NOT NULL,
	`by` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_deletedFiles_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_fileEditions` (
	`fileId` varchar(64) NOT NULL,
	`edition` int NOT NULL,
	`digest` char(64) NOT NULL,
	`size` bigint NOT NULL,
	`type` varchar(200) NOT NULL,
	`by` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_fileEditions_fileId_edition_pk` PRIMARY KEY(`fileId`,`edition`)
);
--> statement-breakpoint
CREATE TABLE `_fileDays` (
	`day` char(10) NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `_fileDays_day` PRIMARY KEY(`day`)
);
--> statement-breakpoint
CREATE TABLE `_folders` (
	`key` char(64) NOT NULL,
	`path` varchar(1000) NOT NULL,
	`parent` char(64) NOT NULL,
	`rules` json,
	`public` boolean NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_folders_key` PRIMARY KEY(`key`)
);
--> statement-breakpoint
CREATE TABLE `_renditions` (
	`digest` char(64) NOT NULL,
	`form` varchar(60) NOT NULL,
	`content` char(64) NOT NULL,
	`size` bigint NOT NULL,
	`usedAt` datetime(3) NOT NULL,
	CONSTRAINT `_renditions_digest_form_pk` PRIMARY KEY(`digest`,`form`)
);
--> statement-breakpoint
CREATE TABLE `_shareLinks` (
	`id` varchar(64) NOT NULL,
	`secret` char(64) NOT NULL,
	`fileId` varchar(64) NOT NULL,
	`until` datetime(3),
	`count` int,
	`used` int NOT NULL,
	`password` varchar(300),
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_shareLinks_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_uploads` (
	`id` varchar(64) NOT NULL,
	`kind` varchar(10) NOT NULL,
	`secret` char(64) NOT NULL,
	`path` varchar(1000) NOT NULL,
	`properties` json NOT NULL,
	`size` bigint,
	`type` varchar(200),
	`replace` boolean NOT NULL,
	`by` varchar(300) NOT NULL,
	`author` json NOT NULL,
	`until` datetime(3) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`usedAt` datetime(3),
	CONSTRAINT `_uploads_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `contents_verified` ON `_contents` (`verifiedAt`);--> statement-breakpoint
CREATE INDEX `contents_kept` ON `_contents` (`keptAt`);--> statement-breakpoint
CREATE INDEX `deletedFiles_at` ON `_deletedFiles` (`at`);--> statement-breakpoint
CREATE INDEX `deletedFiles_digest` ON `_deletedFiles` (`digest`);--> statement-breakpoint
CREATE INDEX `deletedFiles_owner` ON `_deletedFiles` (`ownerId`,`at`);--> statement-breakpoint
CREATE INDEX `fileEditions_digest` ON `_fileEditions` (`digest`);--> statement-breakpoint
CREATE INDEX `folders_parent` ON `_folders` (`parent`);--> statement-breakpoint
CREATE INDEX `renditions_content` ON `_renditions` (`content`);--> statement-breakpoint
CREATE INDEX `shareLinks_secret` ON `_shareLinks` (`secret`);--> statement-breakpoint
CREATE INDEX `shareLinks_file` ON `_shareLinks` (`fileId`);--> statement-breakpoint
CREATE INDEX `uploads_secret` ON `_uploads` (`secret`);--> statement-breakpoint
CREATE INDEX `uploads_until` ON `_uploads` (`until`);