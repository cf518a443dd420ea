import { bigint, char, index, longtext, mysqlTable, tinyint, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../database/columns.js';

/** What members, tokens and the service changed in this database, as a chain. Rows are only ever added. */
export const auditTable = mysqlTable(
  '_audit',
  {
    number: bigint('number', { mode: 'number' }).primaryKey(),
    id: id().notNull().unique(),
    at: instant('at').notNull(),
    /** Who, by reference: the entry outlives the person's account. */
    actor: varchar('actor', { length: 120 }).notNull(),
    address: varchar('address', { length: 45 }),
    request: char('request', { length: 36 }),
    app: varchar('app', { length: 40 }),
    environment: varchar('environment', { length: 40 }),
    action: varchar('action', { length: 60 }).notNull(),
    kind: varchar('kind', { length: 30 }).notNull(),
    subject: varchar('subject', { length: 300 }).notNull(),
    outcome: varchar('outcome', { length: 10 }).notNull(),
    /** The exact text that the MAC covers; a JSON column could rewrite it. */
    before: longtext('before'),
    after: longtext('after'),
    mac: char('mac', { length: 43 }).notNull(),
  },
  (t) => [index('audit_at').on(t.at), index('audit_subject').on(t.kind, t.subject)],
);

/** The end of the chain, one row; locked by whoever adds an entry. */
export const auditHeadTable = mysqlTable('_auditHead', {
  id: tinyint('id').primaryKey(),
  number: bigint('number', { mode: 'number' }).notNull(),
  mac: varchar('mac', { length: 43 }).notNull(),
  /** A MAC over the head itself, so that it cannot be set back to an earlier entry. */
  seal: varchar('seal', { length: 43 }).notNull(),
});
