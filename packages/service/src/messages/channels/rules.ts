/** Who may do what on a channel. */
import { Problem } from '@orchard/contract';
import { authorOf, type Call, environmentOf, refusedBy, refusedOf } from '../../platform/call.js';
import { RulesAtHand } from '../../platform/access/rulesAtHand.js';
import type { Parts } from './parts.js';
import { type ChannelRow, type ChannelRules, type ChannelStore, SIGNED_IN } from './store.js';

export type AppCall = Pick<Call, 'environment' | 'holder' | 'member' | 'user'>;

const RULES = new RulesAtHand(['channel']);
const DEFAULT_KEEP = 100;

/** The defaults of a channel. */
export const newChannel = (name: string, createdBy: string, now: number): ChannelRow => ({
  name,
  rules: { listen: SIGNED_IN, publish: SIGNED_IN },
  keep: DEFAULT_KEEP,
  createdBy,
  createdAt: new Date(now),
});

/** @throws {Problem} malformed-filter */
export function demandReadable(rules: Partial<ChannelRules>): void {
  for (const rule of Object.values(rules)) RULES.demandReadable(rule);
}

export class ChannelAccess {
  constructor(
    private readonly parts: Pick<Parts, 'now'>,
    private readonly store: ChannelStore,
  ) {}

  /**
   * The channel, if the caller may do this on it; a server key needs only its scope.
   * @throws {Problem} not-found, access-refused
   */
  async demand(call: AppCall, name: string, action: keyof ChannelRules): Promise<ChannelRow> {
    const channel = (await this.store.find(environmentOf(call), name)) ?? this.#firstOf(call, name);
    if (call.holder?.key.kind !== 'server' && !this.#holds(channel.rules[action], name, call)) throw refusalOf(call, channel, action);
    return channel;
  }

  /** The same; a channel that is not there yet is created. */
  async demandCreated(call: AppCall, name: string, action: keyof ChannelRules): Promise<ChannelRow> {
    const channel = await this.demand(call, name, action);
    await this.store.ensure(environmentOf(call), channel);
    return channel;
  }

  /** In an open environment every signed-in user may use a channel that has not been created yet. */
  #firstOf(call: AppCall, name: string): ChannelRow {
    const environment = environmentOf(call);
    if (environment.mode === 'closed')
      throw new Problem(
        'not-found',
        `There is no channel ${name} in ${environment.app}/${environment.name}, which is closed. Create it with PUT /manage/v1/…/channels/${name}.`,
      );
    return newChannel(name, authorOf(call), this.parts.now());
  }

  #holds(rule: string, channel: string, call: AppCall): boolean {
    const me = { id: call.user?.id ?? null, roles: [...(call.user?.roles ?? [])] };
    return RULES.holds(rule, { channel }, { me, now: this.parts.now() });
  }
}

function refusalOf(call: AppCall, { name, rules }: ChannelRow, action: keyof ChannelRules): Problem {
  const rule = `The rule of channel ${name} for ${action}ing`;
  return refusedBy(refusedOf(call), rule, `${rule} refuses ${call.user ? 'this user' : 'callers who are not signed in'}: ${rules[action]}`);
}
