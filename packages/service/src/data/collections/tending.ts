/** What is done for collections once an hour. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { SchemaChanges } from './schemaChanges.js';
import { noteSizes } from './sizes.js';
import { tellSlowPatterns } from './patterns.js';
import { answerTable } from '../../platform/http/tables.js';
import { feedTable } from '../../platform/live/tables.js';

/** How long the change feed, and with it the history of records, is kept. */
const FEED_MS = 30 * 86_400_000;
const ANSWERS_MS = 86_400_000;
const AT_ONCE = 10_000;

export async function tendCollections(parts: Parts, environment: Environment): Promise<void> {
  await endFeed(parts, environment);
  await environment.db.change(`DELETE FROM ${environment.db.of(answerTable)} WHERE at < ?`, [new Date(parts.now() - ANSWERS_MS)]);
  await new SchemaChanges(parts).purge(environment);
  await tellSlowPatterns(parts, environment);
  await noteSizes(parts, environment);
}

/** Deletes old entries; the newest stays, so that numbers go on from it. */
async function endFeed({ now }: Parts, { db }: Environment): Promise<void> {
  const feed = db.of(feedTable);
  const [top] = await db.rows<{ number: number }>(`SELECT COALESCE(MAX(number), 0) AS number FROM ${feed}`);
  for (;;) {
    const { affectedRows } = await db.change(
      `DELETE FROM ${feed} WHERE at < ? AND number > 0 AND number < ? ORDER BY at LIMIT ${AT_ONCE}`,
      [new Date(now() - FEED_MS), top?.number ?? 0],
    );
    if (affectedRows < AT_ONCE) return;
  }
}
