CREATE TABLE `_sheets` (
	`id` varchar(64) NOT NULL,
	`name` varchar(80) NOT NULL,
	`items` text NOT NULL,
	`by` varchar(130) NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_sheets_id` PRIMARY KEY(`id`),
	CONSTRAINT `sheets_name` UNIQUE(`name`)
);
