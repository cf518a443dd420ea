/**
 * Reads server-sent events (HTML standard section 9.2) from a response, for calls whose headers a browser's EventSource
 * cannot send.
 */
import { EventSourceParserStream } from 'eventsource-parser/stream';
import { Problem } from './problems.js';

export type LiveEvent = { event: string; id: string; data: unknown };
type Message = { event?: string; id?: string; data: string };

/** The events of a stream as they arrive, with data parsed as JSON. Ends with the stream. */
export async function* readEvents(reply: Response): AsyncGenerator<LiveEvent> {
  if (!reply.body) return;
  const messages = reply.body
    .pipeThrough(new TextDecoderStream() as never)
    .pipeThrough(new EventSourceParserStream()) as unknown as ReadableStream<Message>;
  const reader = messages.getReader();
  try {
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      yield { event: value.event ?? 'message', id: value.id ?? '', data: value.data ? JSON.parse(value.data) : null };
    }
  } finally {
    await reader.cancel().catch(() => undefined);
  }
}

export type Following = {
  /** Opens the stream after the latest event. */
  open: (headers: Record<string, string>, signal: AbortSignal) => Promise<Response>;
  onEvent: (event: LiveEvent) => void;
  /** Called when the stream is open, and when it waits to reconnect. */
  onState?: (state: 'open' | 'waiting') => void;
  signal: AbortSignal;
};

const FIRST_WAIT_MS = 500;
const LONGEST_WAIT_MS = 15_000;

/**
 * Follows a stream until the signal aborts it; reconnects after the latest event when it breaks.
 * @throws {Problem} when the service refuses the stream itself
 */
export async function followEvents({ open, onEvent, onState, signal }: Following): Promise<void> {
  let last = '';
  let wait = FIRST_WAIT_MS;
  while (!signal.aborted) {
    try {
      const reply = await open(last ? { 'last-event-id': last } : {}, signal);
      onState?.('open');
      wait = FIRST_WAIT_MS;
      for await (const event of readEvents(reply)) {
        if (event.id) last = event.id;
        // One without name and data only moves the place to resume from.
        if (event.event !== 'message' || event.data !== null) onEvent(event);
      }
    } catch (error) {
      if (signal.aborted) return;
      if (error instanceof Problem && error.status < 500 && error.status !== 429) throw error;
    }
    if (signal.aborted) return;
    onState?.('waiting');
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, wait);
      signal.addEventListener('abort', () => (clearTimeout(timer), resolve()), { once: true });
    });
    wait = Math.min(LONGEST_WAIT_MS, wait * 2);
  }
}
