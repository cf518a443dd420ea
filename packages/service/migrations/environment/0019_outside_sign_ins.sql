CREATE TABLE `_outsideSignIns` (
	`stateHash` char(64) NOT NULL,
	`requestHash` char(64) NOT NULL,
	`way` varchar(40) NOT NULL,
	`verifier` varchar(300) NOT NULL,
	`nonce` varchar(60) NOT NULL,
	`expiresAt` datetime(3) NOT NULL,
	CONSTRAINT `_outsideSignIns_stateHash` PRIMARY KEY(`stateHash`)
);
--> statement-breakpoint
CREATE INDEX `outsideSignIns_expires` ON `_outsideSignIns` (`expiresAt`);