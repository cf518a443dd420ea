CREATE TABLE `_dateNotes` (
	`id` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`text` varchar(80) NOT NULL,
	`by` varchar(130) NOT NULL,
	CONSTRAINT `_dateNotes_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `dateNotes_at` ON `_dateNotes` (`at`);