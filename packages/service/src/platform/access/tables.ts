import { char, index, int, mysqlTable } from 'drizzle-orm/mysql-core';
import { instant } from '../database/columns.js';

/** Failed sign-ins by account and address, and addresses that accounts are used from. */
export const guessTable = mysqlTable(
  '_guesses',
  { who: char('who', { length: 43 }).primaryKey(), failures: int('failures').notNull(), lastAt: instant('lastAt').notNull() },
  (t) => [index('guesses_at').on(t.lastAt)],
);
