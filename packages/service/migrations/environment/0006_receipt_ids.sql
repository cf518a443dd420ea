DROP INDEX `deliveries_message` ON `_deliveries`;--> statement-breakpoint
ALTER TABLE `_deliveries` ADD `receiptId` varchar(120);--> statement-breakpoint
CREATE INDEX `deliveries_receipt` ON `_deliveries` (`receiptId`);--> statement-breakpoint
UPDATE `_deliveries` SET `receiptId` = `messageId` WHERE `way` <> 'push';