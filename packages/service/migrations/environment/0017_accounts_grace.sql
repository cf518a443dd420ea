ALTER TABLE `_users` ADD `deleteAt` datetime(3);--> statement-breakpoint
CREATE INDEX `users_delete` ON `_users` (`deleteAt`);