/** Steps that were walked, with an answer each; the first that fails ends them. */
import type { WaySteps } from '@orchard/contract';
import { rolesOfGroups } from '@orchard/core/accounts';
import type { SignInWay } from './ways.js';

class Ended extends Error {}

export class Walk {
  readonly steps: WaySteps['steps'] = [];

  pass(what: string, text: string): this {
    this.steps.push({ what, ok: true, text });
    return this;
  }

  fail(what: string, text: string): never {
    this.steps.push({ what, ok: false, text });
    throw new Ended();
  }
}

/** Walks steps, up to the first that fails. */
export async function walked(steps: (walk: Walk) => unknown): Promise<WaySteps> {
  const walk = new Walk();
  try {
    await steps(walk);
  } catch (error) {
    if (!(error instanceof Ended)) throw error;
  }
  return { ok: walk.steps.every(({ ok }) => ok), steps: walk.steps };
}

/** What the groups of somebody give, in words. */
export function groupWords({ roles }: SignInWay, groups: readonly string[]): string {
  const given = rolesOfGroups(roles, [...groups]);
  return `${groups.join(', ')}: ${given.length > 0 ? `gives the role${given.length > 1 ? 's' : ''} ${given.join(', ')}` : 'gives no role'}`;
}
