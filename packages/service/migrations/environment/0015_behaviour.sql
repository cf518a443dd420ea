CREATE TABLE `_behaviours` (
	`number` bigint AUTO_INCREMENT NOT NULL,
	`hash` char(32) NOT NULL,
	`event` varchar(100) NOT NULL,
	`days` smallint NOT NULL,
	`filter` text,
	`usedAt` datetime(3) NOT NULL,
	`countedAt` datetime(3),
	CONSTRAINT `_behaviours_number` PRIMARY KEY(`number`)
);
--> statement-breakpoint
CREATE TABLE `_behaviourTimes` (
	`behaviour` bigint NOT NULL,
	`person` int unsigned NOT NULL,
	`times` int NOT NULL,
	CONSTRAINT `behaviourTimes_key` PRIMARY KEY(`behaviour`,`person`)
);
--> statement-breakpoint
CREATE INDEX `behaviours_hash` ON `_behaviours` (`hash`);