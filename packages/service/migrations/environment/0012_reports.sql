CREATE TABLE `_reports` (
	`id` varchar(64) NOT NULL,
	`name` varchar(80) NOT NULL,
	`settings` json NOT NULL,
	`by` varchar(200) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_reports_id` PRIMARY KEY(`id`),
	CONSTRAINT `reports_name` UNIQUE(`name`)
);
