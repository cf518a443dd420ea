CREATE TABLE `_broadcasts` (
	`id` varchar(64) NOT NULL,
	`name` varchar(200) NOT NULL,
	`title` varchar(200) NOT NULL,
	`state` varchar(10) NOT NULL,
	`ownerId` varchar(64),
	`by` varchar(300) NOT NULL,
	`record` boolean NOT NULL,
	`secret` char(64) NOT NULL,
	`video` boolean,
	`audio` boolean,
	`width` int,
	`height` int,
	`kbits` int NOT NULL,
	`bytes` bigint NOT NULL,
	`runs` int NOT NULL,
	`nextPiece` int NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`startedAt` datetime(3),
	`lastAt` datetime(3) NOT NULL,
	`endedAt` datetime(3),
	`trouble` varchar(500),
	`recording` varchar(1000),
	CONSTRAINT `_broadcasts_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `_broadcastViewers` (
	`broadcastId` varchar(64) NOT NULL,
	`viewer` varchar(64) NOT NULL,
	`userId` varchar(64),
	`since` datetime(3) NOT NULL,
	`until` datetime(3) NOT NULL,
	CONSTRAINT `_broadcastViewers_broadcastId_viewer_pk` PRIMARY KEY(`broadcastId`,`viewer`)
);
--> statement-breakpoint
CREATE INDEX `broadcasts_secret` ON `_broadcasts` (`secret`);--> statement-breakpoint
CREATE INDEX `broadcasts_state` ON `_broadcasts` (`state`,`createdAt`);