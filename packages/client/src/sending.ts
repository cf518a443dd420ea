/** Sending what a camera sees, piece by piece; loaded when an app begins a broadcast. */
import type { Transport } from './transport.js';
import type { BodyTo, ReplyTo } from './types.js';

export type Sending = {
  broadcast: ReplyTo<'broadcasts.begin'>;
  /** Resolves when the last piece has arrived. */
  end: () => Promise<void>;
};

const PIECE_MS = 1_000;
const KINDS = ['video/mp4;codecs=avc1.42E01E,mp4a.40.2', 'video/webm;codecs=vp8,opus', 'video/webm', 'audio/webm'];

export async function send(
  transport: Transport,
  request: (address: string, init: RequestInit) => Promise<Response>,
  stream: MediaStream,
  body: BodyTo<'broadcasts.begin'>,
  onTrouble?: (error: Error) => void,
): Promise<Sending> {
  const broadcast = await transport.call('broadcasts.begin', { body });
  const mimeType = KINDS.find((kind) => MediaRecorder.isTypeSupported(kind));
  const recorder = new MediaRecorder(stream, mimeType ? { mimeType } : {});
  let number = 0;
  let sending: Promise<unknown> = Promise.resolve();
  // One after another: each piece goes on where the one before it ended.
  const piece = async (content: Blob, at: number) => {
    for (let wait = 250; ; wait *= 2) {
      try {
        await request(`${broadcast.ingest.pieces}${at}`, { method: 'PUT', body: content, headers: { 'content-type': content.type } });
        return;
      } catch (error) {
        onTrouble?.(error as Error);
        if (wait > 8_000) throw error;
        await new Promise((resolve) => setTimeout(resolve, wait));
      }
    }
  };
  recorder.ondataavailable = ({ data }) => {
    if (data.size === 0) return;
    const at = number++;
    sending = sending.then(() => piece(data, at)).catch(() => recorder.state === 'recording' && recorder.stop());
  };
  const stopped = new Promise((resolve) => recorder.addEventListener('stop', resolve, { once: true }));
  recorder.start(PIECE_MS);
  return {
    broadcast,
    end: async () => {
      if (recorder.state !== 'inactive') recorder.stop();
      await stopped;
      await sending;
      await transport.call('broadcasts.end', { params: { id: broadcast.id } });
    },
  };
}
