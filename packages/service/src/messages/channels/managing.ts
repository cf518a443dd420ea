/** Channels as the team sees and changes them. */
import { type Channel, type OpenChannel, type operations, Problem } from '@orchard/contract';
import { authorOf, type Call, type Environment, environmentOf } from '../../platform/call.js';
import type { PresenceStore } from '../presence/store.js';
import type { Parts } from './parts.js';
import { demandReadable, newChannel } from './rules.js';
import type { ChannelRow, ChannelStore } from './store.js';

/** How many of the latest messages the team sees. */
const SHOWN = 50;

export class ChannelManaging {
  constructor(
    private readonly parts: Parts,
    private readonly store: ChannelStore,
    private readonly presence: PresenceStore,
  ) {}

  list(environment: Environment): Promise<Channel[]> {
    return this.store.list(environment, new Date(this.parts.now()));
  }

  /** @throws {Problem} not-found */
  async named(environment: Environment, name: string): Promise<ChannelRow> {
    const channel = await this.store.find(environment, name);
    if (!channel) throw noChannel(environment, name);
    return channel;
  }

  async show(environment: Environment, name: string): Promise<OpenChannel> {
    const channel = await this.#shown(environment, name);
    const latest = await this.store.latest(environment, name, SHOWN);
    return { ...channel, latest, presence: await this.presence.read(environment, name, this.parts.now()) };
  }

  /** Creates a channel, or changes its rules and the number of kept messages. */
  async put(call: Call<typeof operations.channels.put>): Promise<{ body: Channel; status: 200 | 201 }> {
    const environment = environmentOf(call);
    const { channel: name } = call.params;
    const { rules = {}, keep } = call.body;
    const given = Object.fromEntries(Object.entries(rules).filter(([, rule]) => rule !== undefined));
    demandReadable(given);
    const created = await this.store.ensure(environment, newChannel(name, authorOf(call), this.parts.now()));
    const before = await this.named(environment, name);
    await this.store.change(environment, { ...before, rules: { ...before.rules, ...given }, keep: keep ?? before.keep });
    return { body: await this.#shown(environment, name), status: created ? 201 : 200 };
  }

  async remove(environment: Environment, name: string): Promise<void> {
    if (!(await this.store.remove(environment, name))) throw noChannel(environment, name);
  }

  /**
   * It may have been removed at the same moment.
   * @throws {Problem} not-found
   */
  async #shown(environment: Environment, name: string): Promise<Channel> {
    const [channel] = await this.store.list(environment, new Date(this.parts.now()), name);
    if (!channel) throw noChannel(environment, name);
    return channel;
  }
}

const noChannel = (environment: Environment, name: string) =>
  new Problem('not-found', `There is no channel ${name} in ${environment.app}/${environment.name}.`);
