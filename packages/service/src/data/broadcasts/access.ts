/** Who may send and watch. */
import { Problem } from '@orchard/contract';
import { type Call, environmentOf, refusedBy } from '../../platform/call.js';
import { RulesAtHand } from '../../platform/access/rulesAtHand.js';
import { askingOf, authorOf } from '../records/author.js';
import type { Parts } from './parts.js';
import { broadcastSettings } from './settings.js';
import type { BroadcastRow } from './store.js';

const RULES = new RulesAtHand(['name', 'ownerId']);
type Named = Pick<BroadcastRow, 'name' | 'ownerId'>;

/** @throws {Problem} malformed-filter */
export const demandReadable = (rule: string | undefined): void => RULES.demandReadable(rule);

export class BroadcastAccess {
  constructor(private readonly parts: Pick<Parts, 'now'>) {}

  async may(call: Call, action: 'send' | 'watch', { name, ownerId }: Named): Promise<boolean> {
    const author = authorOf(call);
    if (author.trusted) return true;
    const rule = (await broadcastSettings.read(environmentOf(call)))[action];
    return RULES.holds(rule, { name, ownerId }, askingOf(author, this.parts.now()));
  }

  /** @throws {Problem} access-refused */
  async demand(call: Call, action: 'send' | 'watch', broadcast: Named): Promise<void> {
    if (await this.may(call, action, broadcast)) return;
    const author = authorOf(call);
    const rule = (await broadcastSettings.read(environmentOf(call)))[action];
    const which = `The rule for ${action === 'send' ? 'sending' : 'watching'} broadcasts`;
    throw refusedBy(author, which, `${which}, ${rule}, refuses ${author.userId === null ? 'this: nobody is signed in' : 'this user'}.`);
  }

  /** Those who began it, and the team: who watches, and its end, are theirs. @throws {Problem} access-refused */
  demandOwn(call: Call, { ownerId }: Named): void {
    const { trusted, userId } = authorOf(call);
    if (!trusted && (userId === null || userId !== ownerId))
      throw new Problem('access-refused', 'Only whoever began this broadcast may do that, and the team.');
  }
}
