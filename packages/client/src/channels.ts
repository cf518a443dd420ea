import type { ChannelMessage, LiveEvent, Presence } from '@orchard/contract';
import type { Problem } from './problem.js';
import { type Fields, follow } from './records.js';
import type { Transport } from './transport.js';

/** One channel. */
export type ChannelHandle = {
  publish: (data: Fields, notify?: { title: string; body?: string; link?: string }) => Promise<ChannelMessage>;
  history: (limit?: number) => Promise<ChannelMessage[]>;
  presence: () => Promise<Presence>;
  /** Messages and presence, across reconnects, until the returned function is called. */
  listen: (
    onEvent: (event: LiveEvent) => void,
    options?: { last?: number; device?: string; onProblem?: (problem: Problem) => void },
  ) => () => void;
};

export const channelHandle = (transport: Transport, channel: string): ChannelHandle => ({
  publish: (data, notify) => transport.call('channels.publish', { params: { channel }, body: { data, ...(notify ? { notify } : {}) } }),
  history: async (limit) => (await transport.call('channels.history', { params: { channel }, query: limit ? { limit } : {} })).items,
  presence: () => transport.call('channels.presence', { params: { channel } }),
  listen: (onEvent, { last, device, onProblem } = {}) =>
    follow(
      (headers, signal) =>
        transport.open(
          'channels.live',
          { params: { channel }, query: { ...(last ? { last } : {}), ...(device ? { device } : {}) } },
          { headers, signal },
        ),
      onEvent,
      onProblem,
    ),
});
