/** Whether the secret key is the one this installation was created with. */
import { eq } from 'drizzle-orm';
import type { Database } from '../database/connection.js';
import { settings } from './systemTables.js';
import { deriveKey } from './secrets.js';

const NAME = 'secretKeyMark';

/**
 * Notes a mark of the key at the first start, and compares it at later ones. The mark reveals nothing about the key.
 * @throws Error when the database was used with another key: its credentials and tokens would not open
 */
export async function checkSecretKey(database: Database, secretKey: Buffer): Promise<void> {
  const mark = deriveKey(secretKey, 'mark').toString('hex');
  await database.orm.insert(settings).ignore().values({ name: NAME, value: mark });
  const [kept] = await database.orm.select().from(settings).where(eq(settings.name, NAME));
  if (kept?.value === mark) return;
  throw new Error(
    'The database was used with another secret key. Start with the secret.key file of the data directory it was created with, or set ORCHARD_SECRET_KEY to that key (the same for every instance).',
  );
}
