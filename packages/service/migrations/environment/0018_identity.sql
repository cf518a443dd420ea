CREATE TABLE `_authorizations` (
	`hash` char(64) NOT NULL,
	`client` varchar(40) NOT NULL,
	`redirectUri` varchar(500) NOT NULL,
	`challenge` char(43) NOT NULL,
	`scope` varchar(200) NOT NULL,
	`state` varchar(500),
	`nonce` varchar(200),
	`userId` varchar(64),
	`signedInAt` datetime(3),
	`codeHash` char(64),
	`sessionId` varchar(64),
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_authorizations_hash` PRIMARY KEY(`hash`),
	CONSTRAINT `authorizations_code` UNIQUE(`codeHash`)
);
--> statement-breakpoint
CREATE TABLE `_signingKeys` (
	`kid` varchar(16) NOT NULL,
	`sealed` text NOT NULL,
	`jwk` json NOT NULL,
	`createdAt` datetime(3) NOT NULL,
	CONSTRAINT `_signingKeys_kid` PRIMARY KEY(`kid`)
);
--> statement-breakpoint
CREATE INDEX `authorizations_expires` ON `_authorizations` (`expiresAt`);