CREATE TABLE `_upstreamRecordings` (
	`upstream` varchar(40) NOT NULL,
	`mark` varchar(64) NOT NULL,
	`asked` text NOT NULL,
	`status` int NOT NULL,
	`headers` json NOT NULL,
	`body` mediumtext NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `_upstreamRecordings_upstream_mark_pk` PRIMARY KEY(`upstream`,`mark`)
);
--> statement-breakpoint
CREATE TABLE `_upstreams` (
	`name` varchar(40) NOT NULL,
	`definition` json NOT NULL,
	`description` mediumtext,
	`check` json,
	`createdBy` varchar(300) NOT NULL,
	`changedAt` datetime(3) NOT NULL,
	CONSTRAINT `_upstreams_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE INDEX `upstream_recordings_at` ON `_upstreamRecordings` (`at`);