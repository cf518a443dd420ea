CREATE TABLE `_outsideServers` (
	`id` varchar(64) NOT NULL,
	`name` varchar(40) NOT NULL,
	`kind` varchar(12) NOT NULL,
	`host` varchar(253) NOT NULL,
	`port` int NOT NULL,
	`database` varchar(128) NOT NULL,
	`user` varchar(128) NOT NULL,
	`sealed` text NOT NULL,
	`tls` boolean NOT NULL,
	`trust` text,
	`check` json,
	`createdAt` datetime(3) NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	CONSTRAINT `_outsideServers_id` PRIMARY KEY(`id`),
	CONSTRAINT `outside_servers_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE TABLE `_outsideTables` (
	`name` varchar(63) NOT NULL,
	`serverId` varchar(64) NOT NULL,
	`table` varchar(260) NOT NULL,
	`key` varchar(128) NOT NULL,
	`version` varchar(128),
	`owner` varchar(128),
	`changes` varchar(128),
	`writable` boolean NOT NULL,
	`fields` json NOT NULL,
	`rules` json NOT NULL,
	`seen` json NOT NULL,
	`checkedAt` datetime(3) NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	`updatedAt` datetime(3) NOT NULL,
	CONSTRAINT `_outsideTables_name` PRIMARY KEY(`name`)
);
