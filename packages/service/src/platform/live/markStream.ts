/**
 * Notifies open pages of changes. It sends marks (the latest entry of the change feed, the latest times) read from the
 * database, so a change may come from any instance; a change on this one only wakes the stream sooner.
 */
import { isDatabaseAway } from '../database/errors.js';
import type { Environment } from '../call.js';
import type { Platform } from '../platform.js';
import type { EventStream } from './eventStream.js';

const POLL_MS = 2_000;
/** Many changes at once are one message. */
const GATHER_MS = 150;

async function readMarks({ marks }: Platform, environment: Environment): Promise<Record<string, number>> {
  const asked = marks.map(({ name, of }) => ({ name, ...of(environment) }));
  const [row] = await environment.db.rows<Record<string, number>>(
    `SELECT ${asked.map(({ name, sql }) => `(${sql}) AS ${name}`).join(', ')}`,
    asked.flatMap(({ values = [] }) => values),
  );
  return Object.fromEntries(asked.map(({ name }) => [name, Number(row?.[name] ?? 0)]));
}

/** Responds with server-sent events (HTML standard section 9.2): one `marks` event at once, and one at each change. */
export function streamMarks(parts: Platform, environment: Environment, stream: EventStream): void {
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
