/** Jobs of the version before, which stood in the system database: they move to their environment once. */
import { eq } from 'drizzle-orm';
import type { Database } from '../database/connection.js';
import type { JobDatabase } from './queue.js';
import { formerJobs } from './systemTables.js';
import { jobTable } from './tables.js';

export async function takeOverJobs({ orm }: Pick<Database, 'orm'>, { id, db }: JobDatabase): Promise<void> {
  const rows = await orm.select().from(formerJobs).where(eq(formerJobs.environmentId, id));
  const moved = rows.map(({ environmentId: _, ...row }) => ({ ...row, leaseUntil: null, leasedBy: null }));
  await db.orm.insert(db.table(jobTable)).ignore().values(moved);
  await orm.delete(formerJobs).where(eq(formerJobs.environmentId, id));
}
