DROP INDEX `deliveries_changed` ON `_deliveries`;--> statement-breakpoint
DROP INDEX `deliveries_due` ON `_deliveries`;--> statement-breakpoint
DROP INDEX `deliveries_target` ON `_deliveries`;--> statement-breakpoint
ALTER TABLE `_notifications` ADD `changedAt` datetime(3);--> statement-breakpoint
CREATE INDEX `notifications_changed` ON `_notifications` (`changedAt`);--> statement-breakpoint
CREATE INDEX `deliveries_due` ON `_deliveries` (`notificationId`,`slice`,`nextAttemptAt`);--> statement-breakpoint
CREATE INDEX `deliveries_target` ON `_deliveries` (`target`,`notificationId`);