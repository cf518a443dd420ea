CREATE TABLE `_deviceSyncs` (
	`device` varchar(64) NOT NULL,
	`at` datetime(3) NOT NULL,
	`number` bigint NOT NULL,
	`pending` int,
	`conflicts` int,
	`scopes` int NOT NULL,
	`taken` int NOT NULL,
	`refused` int NOT NULL,
	`problem` varchar(300),
	CONSTRAINT `_deviceSyncs_device` PRIMARY KEY(`device`)
);
--> statement-breakpoint
CREATE TABLE `_takenChanges` (
	`id` varchar(36) NOT NULL,
	`by` varchar(300) NOT NULL,
	`version` int,
	`conflicts` json,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_takenChanges_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `taken_at` ON `_takenChanges` (`at`);