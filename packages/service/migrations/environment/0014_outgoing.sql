ALTER TABLE `_notifications` ADD `trace` char(32);--> statement-breakpoint
ALTER TABLE `_requests` ADD `direction` varchar(3) DEFAULT 'in' NOT NULL;