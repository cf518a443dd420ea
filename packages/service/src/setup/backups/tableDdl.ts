/** Makes the tables of an environment in a database of its own, and completes them once they are filled. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';

/** Indexes over words and places of a large table. */
const COMPLETING_S = 3_600;

/** Tables refer to each other, also in circles. */
export async function makeTables(db: EnvironmentDatabase, makings: readonly { make: string }[]): Promise<void> {
  await db.server.withConnection(async (connection) => {
    await connection.query('SET SESSION foreign_key_checks = 0');
    try {
      for (const { make } of makings) await connection.query(make);
    } finally {
      await connection.query('SET SESSION foreign_key_checks = 1').catch(() => connection.destroy());
    }
  });
}

export async function completeTable(db: EnvironmentDatabase, statements: readonly string[]): Promise<void> {
  if (statements.length === 0) return;
  await db.server.withConnection(async (connection) => {
    // As collections make them: without a list of words that are left out.
    await connection.query('SET SESSION innodb_ft_enable_stopword = 0');
    for (const statement of statements) await connection.query(statement);
  }, COMPLETING_S);
}

export async function dropTable(db: EnvironmentDatabase, name: string): Promise<void> {
  await db.server.withConnection(async (connection) => {
    await connection.query('SET SESSION foreign_key_checks = 0');
    try {
      await connection.query(`DROP TABLE IF EXISTS ${db.collection(name)}`);
    } finally {
      await connection.query('SET SESSION foreign_key_checks = 1').catch(() => connection.destroy());
    }
  });
}
