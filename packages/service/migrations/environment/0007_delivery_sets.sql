DROP INDEX `deliveries_due` ON `_deliveries`;--> statement-breakpoint
CREATE INDEX `deliveries_set` ON `_deliveries` (`notificationId`,`slice`);