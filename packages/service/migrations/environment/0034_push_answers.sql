ALTER TABLE `_devices` ADD `pushTrouble` varchar(300);--> statement-breakpoint
ALTER TABLE `_deliveries` ADD `button` varchar(60);