/**
 * Tells open pages that something changed. What is sent are marks (the latest entry of the change feed, the latest times) read
 * from the database, so it does not matter on which instance the change was made; a change on this one only wakes
 * the stream sooner.
 */
import type { Request, Response } from 'express';
import { isDatabaseAway } from '../database/connection.js';
import type { Environment } from '../http/call.js';
import type { Parts } from '../parts.js';

const POLL_MS = 2_000;
/** Many changes at once are one message. */
const GATHER_MS = 150;

type Marks = { records: number; deliveries: number; requests: number; devices: number };

async function readMarks(parts: Parts, environment: Environment): Promise<Marks> {
  const latest = (table: string, column: string) =>
    `(SELECT COALESCE(ROUND(UNIX_TIMESTAMP(MAX(${column})) * 1000), 0) FROM \`${environment.database}\`.${table})`;
  const [row] = await parts.database.rows<Marks>(
    `SELECT (SELECT COALESCE(MAX(entry), 0) FROM \`${environment.database}\`._feed) AS records, ${latest('_notifications', 'changedAt')} AS deliveries,
     (SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM \`${environment.database}\`._requests ORDER BY at DESC LIMIT 1) AS requests, ${latest('_devices', 'updatedAt')} AS devices`,
  );
  const { records = 0, deliveries = 0, requests = 0, devices = 0 } = row ?? {};
  return { records: Number(records), deliveries: Number(deliveries), requests: Number(requests ?? 0), devices: Number(devices) };
}

/** Answers with server-sent events (HTML standard section 9.2): one `marks` event at once, and one at each change. */
export function streamMarks(parts: Parts, environment: Environment, request: Request, response: Response): void {
  response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
  let last = '';
  let busy = false;
  let gathering: NodeJS.Timeout | null = null;
  async function look(): Promise<void> {
    gathering = null;
    if (busy || response.writableNeedDrain) return;
    busy = true;
    try {
      const marks = JSON.stringify(await readMarks(parts, environment));
      if (marks !== last) response.write(`event: marks\ndata: ${marks}\n\n`);
      last = marks;
    } catch (error) {
      if (!isDatabaseAway(error)) end();
    } finally {
      busy = false;
    }
  }
  const soon = () => (gathering ??= setTimeout(look, GATHER_MS));
  const stopListening = parts.changes.listen(environment.id, soon);
  const stopWaiting = parts.changes.onClose(end);
  const timer = setInterval(look, POLL_MS);
  function end(): void {
    clearInterval(timer);
    if (gathering) clearTimeout(gathering);
    stopListening();
    stopWaiting();
    response.end();
  }
  request.once('close', end);
  void look();
}
