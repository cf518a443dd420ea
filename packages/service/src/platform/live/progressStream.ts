/** A call that may take long: after a second, callers who accept server-sent events are told how far it is. */
import { PROGRESS_EVENTS, Problem, type Progress } from '@orchard/contract';
import type { Answer, Call } from '../call.js';
import type { Platform } from '../platform.js';
import { EventStream } from './eventStream.js';

const QUIET_MS = 1_000;
const TELL_EVERY_MS = 250;

/** @param work the handler; it calls `tell` with each part that is done */
export async function withProgress<Body>(
  parts: Pick<Platform, 'changes' | 'now' | 'streams' | 'log'>,
  call: Call,
  work: (tell: (progress: Progress) => void) => Promise<Body>,
): Promise<Answer<Body> | 'streaming'> {
  // RFC 9110 section 12.5.1: the media types that the caller takes.
  if (!call.headers.accept?.includes('text/event-stream')) return { body: await work(() => undefined) };
  let latest: Progress | null = null;
  let stream: EventStream | null = null;
  const send = (event: string, data: unknown) => stream?.send(`event: ${event}\ndata: ${JSON.stringify(data)}\n\n`);
  const teller = setInterval(() => latest && send(PROGRESS_EVENTS.progress, latest), TELL_EVERY_MS);
  const opener = setTimeout(() => {
    stream = new EventStream(call, parts);
    if (latest) send(PROGRESS_EVENTS.progress, latest);
  }, QUIET_MS);
  try {
    const body = await work((progress) => {
      latest = progress;
    });
    if (!stream) return { body };
    send(PROGRESS_EVENTS.answer, body);
  } catch (error) {
    if (!stream) throw error;
    call.problem = error instanceof Problem ? error : new Problem('unexpected');
    if (!(error instanceof Problem)) parts.log.error({ request: call.id, err: error }, 'a call failed while it told its progress');
    send(PROGRESS_EVENTS.problem, call.problem.toDocument(call.id));
  } finally {
    clearInterval(teller);
    clearTimeout(opener);
  }
  (stream as EventStream | null)?.end();
  return 'streaming';
}
