CREATE TABLE `conditions` (
	`environmentId` varchar(64) NOT NULL,
	`condition` varchar(10) NOT NULL,
	`since` datetime(3) NOT NULL,
	`evaluatedAt` datetime(3) NOT NULL,
	`settling` json NOT NULL,
	`findings` json NOT NULL,
	CONSTRAINT `conditions_environmentId` PRIMARY KEY(`environmentId`)
);
