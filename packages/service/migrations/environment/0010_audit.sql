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
CREATE INDEX `audit_at` ON `_audit` (`at`);--> statement-breakpoint
CREATE INDEX `audit_subject` ON `_audit` (`kind`,`subject`);