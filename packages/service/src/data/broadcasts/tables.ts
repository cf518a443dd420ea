import { bigint, boolean, char, index, int, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const broadcastTable = mysqlTable(
  '_broadcasts',
  {
    id: id().primaryKey(),
    name: varchar('name', { length: 200 }).notNull(),
    title: varchar('title', { length: 200 }).notNull(),
    state: varchar('state', { length: 10 }).$type<'waiting' | 'live' | 'ended'>().notNull(),
    ownerId: id('ownerId'),
    by: varchar('by', { length: 300 }).notNull(),
    record: boolean('record').notNull(),
    /** SHA-256 of the secret of its ingest address. */
    secret: char('secret', { length: 64 }).notNull(),
    video: boolean('video'),
    audio: boolean('audio'),
    width: int('width'),
    height: int('height'),
    kbits: int('kbits').notNull(),
    bytes: bigint('bytes', { mode: 'number' }).notNull(),
    runs: int('runs').notNull(),
    /** Of pieces: the number that is awaited. */
    nextPiece: int('nextPiece').notNull(),
    createdAt: instant('createdAt').notNull(),
    startedAt: instant('startedAt'),
    /** When something arrived last. */
    lastAt: instant('lastAt').notNull(),
    endedAt: instant('endedAt'),
    trouble: varchar('trouble', { length: 500 }),
    recording: varchar('recording', { length: 1000 }),
  },
  (t) => [index('broadcasts_secret').on(t.secret), index('broadcasts_state').on(t.state, t.createdAt)],
);

/** Who watches: renewed with each playlist that is read. */
export const broadcastViewerTable = mysqlTable(
  '_broadcastViewers',
  {
    broadcastId: id('broadcastId').notNull(),
    viewer: id('viewer').notNull(),
    userId: id('userId'),
    since: instant('since').notNull(),
    until: instant('until').notNull(),
  },
  (t) => [primaryKey({ columns: [t.broadcastId, t.viewer] })],
);
