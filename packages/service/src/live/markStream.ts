/**
 * Tells open pages that something changed. What is sent are marks (the latest entry of the change feed, the latest times) read
 * from the database, so it does not matter on which instance the change was made; a change on this one only wakes
 * the stream sooner.
 */
import { isDatabaseAway } from '../database/connection.js';
import type { Environment } from '../http/call.js';
import type { Parts } from '../parts.js';
import type { EventStream } from './eventStream.js';

const POLL_MS = 2_000;
/** Many changes at once are one message. */
const GATHER_MS = 150;

const MARKS = ['records', 'deliveries', 'requests', 'devices', 'users', 'notices', 'jobs'] as const;
type Marks = Record<(typeof MARKS)[number], number>;

async function readMarks(parts: Parts, environment: Environment): Promise<Marks> {
  const latest = (table: string, column: string) =>
    `(SELECT COALESCE(ROUND(UNIX_TIMESTAMP(MAX(${column})) * 1000), 0) FROM \`${environment.database}\`.${table})`;
  const [row] = await parts.database.rows<Marks>(
    `SELECT (SELECT COALESCE(MAX(entry), 0) FROM \`${environment.database}\`._feed) AS records, ${latest('_notifications', 'changedAt')} AS deliveries,
     (SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM \`${environment.database}\`._requests ORDER BY at DESC LIMIT 1) AS requests, ${latest('_devices', 'updatedAt')} AS devices,
     ${latest('_users', 'updatedAt')} AS users, (SELECT COALESCE(ROUND(UNIX_TIMESTAMP(MAX(at)) * 1000), 0) FROM notices) AS notices,
     (SELECT COALESCE(SUM(CRC32(CONCAT(id, runAt, attempts, COALESCE(leasedBy, '')))), 0) FROM jobs WHERE environmentId = ?) AS jobs`,
    [environment.id],
  );
  return Object.fromEntries(MARKS.map((mark) => [mark, Number(row?.[mark] ?? 0)])) as Marks;
}

/** Answers with server-sent events (HTML standard section 9.2): one `marks` event at once, and one at each change. */
export function streamMarks(parts: Parts, environment: Environment, stream: EventStream): void {
  let last = '';
  let busy = false;
  let gathering: NodeJS.Timeout | null = null;
  async function look(): Promise<void> {
    gathering = null;
    if (busy || stream.cutIfStuck() || !stream.hasRoom) return;
    busy = true;
    try {
      const marks = JSON.stringify(await readMarks(parts, environment));
      if (marks !== last) stream.send(`event: marks\ndata: ${marks}\n\n`);
      last = marks;
    } catch (error) {
      if (!isDatabaseAway(error)) stream.end();
    } finally {
      busy = false;
    }
  }
  const soon = () => {
    gathering ??= setTimeout(look, GATHER_MS);
  };
  const timer = setInterval(look, POLL_MS);
  stream.onEnd(parts.changes.listen(environment.id, soon));
  stream.onEnd(() => {
    clearInterval(timer);
    if (gathering) clearTimeout(gathering);
  });
  void look();
}
