CREATE TABLE `instances` (
	`id` varchar(64) NOT NULL,
	`host` varchar(255) NOT NULL,
	`pid` int NOT NULL,
	`port` int NOT NULL,
	`version` varchar(40) NOT NULL,
	`database` varchar(255) NOT NULL,
	`state` varchar(10) NOT NULL,
	`startedAt` datetime(3) NOT NULL,
	`seenAt` datetime(3) NOT NULL,
	CONSTRAINT `instances_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `rateShares` (
	`entry` bigint AUTO_INCREMENT NOT NULL,
	`instance` varchar(64) NOT NULL,
	`rate` varchar(12) NOT NULL,
	`who` varchar(80) NOT NULL,
	`points` int NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `rateShares_entry` PRIMARY KEY(`entry`)
);
--> statement-breakpoint
CREATE INDEX `rateShares_at` ON `rateShares` (`at`);