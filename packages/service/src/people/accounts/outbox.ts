/** Mails that `dev` shows, as rows. */
import type { OutboxMail } from '@orchard/contract';
import { desc, lt } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { outboxTable } from './tables.js';

const SHOWN = 100;
const KEPT_MS = 7 * 86_400_000;

export async function addToOutbox({ db }: Environment, mail: Omit<OutboxMail, 'at'> & { at: Date }): Promise<void> {
  await db.orm.insert(db.table(outboxTable)).values(mail);
}

export async function listOutbox({ db }: Environment): Promise<OutboxMail[]> {
  const rows = await db.orm.select().from(db.table(outboxTable)).orderBy(desc(outboxTable.at), desc(outboxTable.id)).limit(SHOWN);
  return rows.map((row) => ({ ...row, at: row.at.toISOString() }));
}

export async function forgetOutbox({ db }: Environment, now: number): Promise<void> {
  await db.orm.delete(db.table(outboxTable)).where(lt(outboxTable.at, new Date(now - KEPT_MS)));
}
