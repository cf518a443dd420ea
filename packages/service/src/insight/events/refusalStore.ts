/** Refused events, gathered by reason, name and client. Raw SQL: counts that concurrent calls add to. */
import type { EventRefusal } from '@orchard/contract';
import { maskSecrets, plainText } from '@orchard/core';
import { EVENT_PROBLEMS, type EventProblem } from '@orchard/core/insight';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { inOrder } from './planStore.js';
import { eventRefusalTable } from './tables.js';

const SAMPLE = 1_000;
const KEPT_MS = 8 * 86_400_000;
/** An app that makes up a name for each event would fill the table. */
const MOST_SHOWN = 200;

type Refused = { problem: EventProblem; detail: string; given: unknown };

const nameOf = (given: unknown): string => {
  const { name } = (given ?? {}) as { name?: unknown };
  return typeof name === 'string' ? plainText(name, 60) : '';
};

export async function noteRefusals(db: EnvironmentDatabase, client: string, refused: readonly Refused[], now: number): Promise<void> {
  const rows = new Map<string, unknown[]>();
  for (const { problem, detail, given } of refused) {
    const name = problem === 'too-many-names' ? '' : nameOf(given);
    const key = `${problem} ${name}`;
    const row = rows.get(key) ?? [problem, name, client, 0, new Date(now), new Date(now), '', ''];
    row[3] = (row[3] as number) + 1;
    row[6] = maskSecrets(detail).slice(0, 500);
    row[7] = plainText(maskSecrets(JSON.stringify(given) ?? ''), SAMPLE);
    rows.set(key, row);
  }
  if (rows.size === 0) return;
  await db.run(
    `INSERT INTO ${db.of(eventRefusalTable)} (problem, name, client, count, firstAt, lastAt, detail, sample) VALUES ?
     ON DUPLICATE KEY UPDATE count = count + VALUES(count), lastAt = VALUES(lastAt), detail = VALUES(detail), sample = VALUES(sample)`,
    [inOrder(rows)],
  );
}

export async function listRefusals(db: EnvironmentDatabase): Promise<EventRefusal[]> {
  const rows = await db.rows<typeof eventRefusalTable.$inferSelect>(
    `SELECT * FROM ${db.of(eventRefusalTable)} ORDER BY lastAt DESC LIMIT ${MOST_SHOWN}`,
  );
  return rows.map(({ problem, firstAt, lastAt, ...row }) => ({
    ...row,
    problem: problem as EventProblem,
    title: EVENT_PROBLEMS[problem as EventProblem],
    firstAt: firstAt.toISOString(),
    lastAt: lastAt.toISOString(),
  }));
}

export const forgetRefusals = (db: EnvironmentDatabase, now: number) =>
  db.run(`DELETE FROM ${db.of(eventRefusalTable)} WHERE lastAt < ?`, [new Date(now - KEPT_MS)]);
