CREATE TABLE `guesses` (
	`who` char(43) NOT NULL,
	`failures` int NOT NULL,
	`lastAt` datetime(3) NOT NULL,
	CONSTRAINT `guesses_who` PRIMARY KEY(`who`)
);
--> statement-breakpoint
CREATE TABLE `memberLinks` (
	`tokenHash` char(64) NOT NULL,
	`memberId` varchar(64) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `memberLinks_tokenHash` PRIMARY KEY(`tokenHash`)
);
--> statement-breakpoint
ALTER TABLE `environments` ADD `triggers` int DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `environments` ADD `widening` boolean DEFAULT true NOT NULL;--> statement-breakpoint
ALTER TABLE `gateways` ADD `refusedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `gateways` ADD `refusal` varchar(500);--> statement-breakpoint
ALTER TABLE `jobs` ADD `attempts` int DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `jobs` ADD `lastError` varchar(1000);--> statement-breakpoint
ALTER TABLE `jobs` ADD `failedAt` datetime(3);--> statement-breakpoint
ALTER TABLE `jobs` ADD `gaveUpAt` datetime(3);--> statement-breakpoint
ALTER TABLE `memberLinks` ADD CONSTRAINT `memberLinks_memberId_members_id_fk` FOREIGN KEY (`memberId`) REFERENCES `members`(`id`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `guesses_at` ON `guesses` (`lastAt`);--> statement-breakpoint
CREATE INDEX `memberLinks_member` ON `memberLinks` (`memberId`);