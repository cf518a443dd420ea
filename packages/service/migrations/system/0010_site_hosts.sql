CREATE TABLE `siteHosts` (
	`host` varchar(253) NOT NULL,
	`environmentId` varchar(64) NOT NULL,
	`site` varchar(40) NOT NULL,
	CONSTRAINT `siteHosts_host` PRIMARY KEY(`host`)
);
--> statement-breakpoint
ALTER TABLE `siteHosts` ADD CONSTRAINT `siteHosts_environmentId_environments_id_fk` FOREIGN KEY (`environmentId`) REFERENCES `environments`(`id`) ON DELETE cascade ON UPDATE no action;