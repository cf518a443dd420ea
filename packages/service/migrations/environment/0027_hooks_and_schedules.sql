CREATE TABLE `_functionCalls` (
	`id` varchar(64) NOT NULL,
	`name` varchar(40) NOT NULL,
	`cause` varchar(200) NOT NULL,
	`order` json NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_functionCalls_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `cause` varchar(200) DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `request` varchar(64);--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `trace` varchar(32);--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `attempt` int DEFAULT 1 NOT NULL;--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `call` varchar(64);--> statement-breakpoint
ALTER TABLE `_functionRuns` ADD `order` json;--> statement-breakpoint
ALTER TABLE `_functions` ADD `input` json;--> statement-breakpoint
ALTER TABLE `_functions` ADD `output` json;--> statement-breakpoint
ALTER TABLE `_functions` ADD `on` json;--> statement-breakpoint
ALTER TABLE `_functions` ADD `clock` varchar(100);--> statement-breakpoint
ALTER TABLE `_functions` ADD `zone` varchar(64);--> statement-breakpoint
ALTER TABLE `_functions` ADD `missed` varchar(10);--> statement-breakpoint
ALTER TABLE `_functions` ADD `part` json;--> statement-breakpoint
CREATE INDEX `function_calls_name` ON `_functionCalls` (`name`);