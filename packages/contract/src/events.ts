/** Reads server-sent events (HTML standard section 9.2) from a reply, also where headers keep a browser's own reader away. */
import { EventSourceParserStream } from 'eventsource-parser/stream';

export type LiveEvent = { event: string; id: string; data: unknown };

/** The events of a stream as they come; data is read as JSON. Ends when the stream does. */
export async function* readEvents(reply: Response): AsyncGenerator<LiveEvent> {
  if (!reply.body) return;
  const messages = reply.body
    .pipeThrough(new TextDecoderStream() as never)
    .pipeThrough(new EventSourceParserStream()) as unknown as AsyncIterable<{ event?: string; id?: string; data: string }>;
  const reader = (messages as unknown as ReadableStream<{ event?: string; id?: string; data: string }>).getReader();
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
