/** Streams of a channel's listeners: one hub for each channel on this instance. */
import type { operations } from '@orchard/contract';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import type { PresenceStore } from '../presence/store.js';
import { ChannelHub } from './hub.js';
import type { Parts } from './parts.js';
import type { ChannelStore } from './store.js';

type ListenCall = Call<typeof operations.channels.live>;

export class ChannelStreams {
  readonly #hubs = new Map<string, ChannelHub>();

  constructor(
    private readonly parts: Parts,
    private readonly store: ChannelStore,
    private readonly presence: PresenceStore,
  ) {}

  async open(call: ListenCall): Promise<'streaming'> {
    const { parts, presence } = this;
    const environment = environmentOf(call);
    const { channel } = call.params;
    const after = await this.#begin(call, environment);
    const id = parts.newId();
    const who = { channel, stream: id, userId: call.user?.id ?? null, deviceId: call.query.device ?? null };
    await presence.enter(environment, who, parts.now());
    const stream = new EventStream(call, parts);
    const listener = { stream, id, after };
    const hub = this.#hubOf(environment, channel);
    stream.onEnd(() => {
      hub.remove(listener);
      presence.leave(environment, channel, id, parts.now()).catch(() => undefined);
    });
    hub.add(listener);
    return 'streaming';
  }

  /** A resumed stream starts after the last message received; a new one with some of the latest, or after all of them. */
  async #begin({ params, query, headers }: ListenCall, environment: Environment): Promise<number> {
    const resumed = Number(headers['last-event-id'] ?? Number.NaN);
    if (Number.isInteger(resumed)) return resumed;
    const before = await this.store.latest(environment, params.channel, Math.max(query.last, 1));
    return (query.last > 0 ? before[0] && before[0].number - 1 : before.at(-1)?.number) ?? 0;
  }

  #hubOf(environment: Environment, channel: string): ChannelHub {
    const name = `${environment.id} ${channel}`;
    let hub = this.#hubs.get(name);
    if (!hub) {
      hub = new ChannelHub(this.parts, this.store, this.presence, environment, channel, () => this.#hubs.delete(name));
      this.#hubs.set(name, hub);
    }
    return hub;
  }
}
