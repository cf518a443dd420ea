import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';

/** How many tables there are, and what they take. */
export async function sizeOf(db: EnvironmentDatabase): Promise<{ bytes: number; tables: number }> {
  const [row] = await db.rows<{ bytes: number | null; tables: number }>(
    'SELECT SUM(DATA_LENGTH + INDEX_LENGTH) AS bytes, COUNT(*) AS tables FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?',
    [db.name],
  );
  return { bytes: Number(row?.bytes ?? 0), tables: Number(row?.tables ?? 0) };
}
