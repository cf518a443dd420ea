/** Live pictures: what a camera sends, and where they are watched. */
import type { Sending } from './sending.js';
import type { Transport } from './transport.js';
import type { BodyTo, ReplyTo } from './types.js';

export type BroadcastsHandle = {
  list: () => Promise<ReplyTo<'broadcasts.list'>['items']>;
  read: (id: string) => Promise<ReplyTo<'broadcasts.read'>>;
  /** The address of an HLS playlist (RFC 8216), for whoever asks. */
  watch: (id: string) => Promise<ReplyTo<'broadcasts.open'>>;
  /** Begins a broadcast of a stream of camera or screen, piece by piece. `onTrouble` hears of pieces that had to be sent again. */
  send: (stream: MediaStream, wish: BodyTo<'broadcasts.begin'>, onTrouble?: (error: Error) => void) => Promise<Sending>;
};

export function broadcastsHandle(
  transport: Transport,
  request: (address: string, init: RequestInit) => Promise<Response>,
): BroadcastsHandle {
  return {
    list: async () => (await transport.call('broadcasts.list', {})).items,
    read: (id) => transport.call('broadcasts.read', { params: { id } }),
    watch: (id) => transport.call('broadcasts.open', { params: { id } }),
    send: async (...wish) => (await import('./sending.js')).send(transport, request, ...wish),
  };
}
