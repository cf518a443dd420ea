CREATE TABLE `_siteContents` (
	`site` varchar(40) NOT NULL,
	`version` int NOT NULL,
	`digest` char(64) NOT NULL,
	CONSTRAINT `_siteContents_site_version_digest_pk` PRIMARY KEY(`site`,`version`,`digest`)
);
--> statement-breakpoint
CREATE TABLE `_siteLoads` (
	`site` varchar(40) NOT NULL,
	`hour` datetime(3) NOT NULL,
	`page` varchar(200) NOT NULL,
	`status` int NOT NULL,
	`loads` int NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `_siteLoads_site_hour_page_status_pk` PRIMARY KEY(`site`,`hour`,`page`,`status`)
);
--> statement-breakpoint
CREATE TABLE `_siteReports` (
	`id` varchar(64) NOT NULL,
	`site` varchar(40) NOT NULL,
	`kind` varchar(40) NOT NULL,
	`directive` varchar(100) NOT NULL,
	`blocked` varchar(300) NOT NULL,
	`page` varchar(300) NOT NULL,
	`count` int NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `_siteReports_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_sites` (
	`name` varchar(40) NOT NULL,
	`client` varchar(40) NOT NULL,
	`fallback` varchar(300),
	`redirects` json NOT NULL,
	`headers` json NOT NULL,
	`hosts` json NOT NULL,
	`keep` int NOT NULL,
	`version` int NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`changedAt` datetime(3) NOT NULL,
	CONSTRAINT `_sites_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `_siteVersions` (
	`site` varchar(40) NOT NULL,
	`version` int NOT NULL,
	`files` longtext NOT NULL,
	`count` int NOT NULL,
	`bytes` bigint NOT NULL,
	`note` varchar(200) NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_siteVersions_site_version_pk` PRIMARY KEY(`site`,`version`)
);
--> statement-breakpoint
CREATE INDEX `siteContents_digest` ON `_siteContents` (`digest`);--> statement-breakpoint
CREATE INDEX `siteReports_site` ON `_siteReports` (`site`,`lastAt`);