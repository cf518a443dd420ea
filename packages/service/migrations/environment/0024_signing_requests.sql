CREATE TABLE `_signingRequests` (
	`id` varchar(64) NOT NULL,
	`client` varchar(40) NOT NULL,
	`subject` json NOT NULL,
	`publicKey` char(64) NOT NULL,
	`sealed` text NOT NULL,
	`pem` text NOT NULL,
	`createdBy` varchar(300) NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_signingRequests_id` PRIMARY KEY(`id`),
	CONSTRAINT `signing_requests_key` UNIQUE(`publicKey`)
);
--> statement-breakpoint
ALTER TABLE `_devices` ADD `allowsAlert` boolean;--> statement-breakpoint
ALTER TABLE `_devices` ADD `allowsSound` boolean;--> statement-breakpoint
ALTER TABLE `_devices` ADD `allowsBadge` boolean;