/**
 * Reads server-sent events (HTML standard section 9.2) from a response, for calls whose headers a browser's EventSource
 * cannot send.
 */
import { EventSourceParserStream } from 'eventsource-parser/stream';

export type LiveEvent = { event: string; id: string; data: unknown };
type Message = { event?: string; id?: string; data: string };

/**
 * The events of a stream as they arrive, with data parsed as JSON. Ends with the stream.
 * @param heard called with every piece that arrives, comments too
 */
export async function* readEvents(reply: Response, heard: () => void = () => undefined): AsyncGenerator<LiveEvent> {
  if (!reply.body) return;
  const listening = new TransformStream<Uint8Array, Uint8Array>({
    transform(piece, out) {
      heard();
      out.enqueue(piece);
    },
  });
  const messages = reply.body
    .pipeThrough(listening as never)
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
  /**
   * A stream on which nothing came for so long is broken, though nobody said so: a phone that changed its network, a machine that
   * lost its power. The service sends at least a comment every 15 seconds.
   */
  silentMs?: number;
};

const FIRST_WAIT_MS = 500;
const LONGEST_WAIT_MS = 15_000;
const SILENT_MS = 45_000;

/**
 * Follows a stream until the signal aborts it; reconnects after the latest event when it breaks.
 * @throws {Problem} when the service refuses the stream itself
 */
export async function followEvents({ open, onEvent, onState, signal, silentMs = SILENT_MS }: Following): Promise<void> {
  let last = '';
  let wait = FIRST_WAIT_MS;
  while (!signal.aborted) {
    const attempt = new Attempt(signal, silentMs);
    try {
      const reply = await open(last ? { 'last-event-id': last } : {}, attempt.signal);
      onState?.('open');
      wait = FIRST_WAIT_MS;
      for await (const event of readEvents(reply, () => attempt.heard())) {
        if (event.id) last = event.id;
        // One without name and data only moves the place to resume from.
        if (event.event !== 'message' || event.data !== null) onEvent(event);
      }
    } catch (error) {
      if (signal.aborted) return;
      const { status } = error as { status?: number };
      if (status !== undefined && status < 500 && status !== 429) throw error;
    } finally {
      attempt.end();
    }
    if (signal.aborted) return;
    onState?.('waiting');
    await pause(wait, signal);
    wait = Math.min(LONGEST_WAIT_MS, wait * 2);
  }
}

/** One connection, given up when the follower is stopped or nothing is heard of it. */
class Attempt {
  readonly #aborting = new AbortController();
  readonly #stop = () => this.#aborting.abort();
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly follower: AbortSignal,
    private readonly silentMs: number,
  ) {
    follower.addEventListener('abort', this.#stop, { once: true });
    this.heard();
  }

  get signal(): AbortSignal {
    return this.#aborting.signal;
  }

  heard(): void {
    clearTimeout(this.#timer);
    this.#timer = setTimeout(this.#stop, this.silentMs);
  }

  end(): void {
    clearTimeout(this.#timer);
    this.follower.removeEventListener('abort', this.#stop);
  }
}

/** Ends early when the signal aborts. A follower reconnects for days: nothing of a pause stays with its signal. */
function pause(ms: number, signal: AbortSignal): Promise<void> {
  return new Promise((resolve) => {
    const end = () => {
      clearTimeout(timer);
      signal.removeEventListener('abort', end);
      resolve();
    };
    const timer = setTimeout(end, ms);
    signal.addEventListener('abort', end, { once: true });
  });
}
