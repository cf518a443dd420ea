/** What a notification did: those who opened it, whom it only reached, and whom it did not, with what they did next. */
import { type BodyOf, type EffectReply, type operations, Problem } from '@orchard/contract';
import { type EffectGroup, twoProportions } from '@orchard/core/insight';
import { type NotificationOutcome, type OutcomeRow, outcomesOf } from '../../messages/notifications/outcomeStore.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { QuestionReader } from './reading.js';
import type { Asking, Watch } from './asking.js';

type Body = BodyOf<(typeof operations)['insight']['effect']>;
type Best = { outcome: NotificationOutcome; variant: string; at: number };

const RANK: Record<NotificationOutcome, number> = { opened: 2, arrived: 1, 'not reached': 0 };

/** @throws {Problem} not-found, malformed-filter */
export async function answerEffect(
  parts: Parts,
  asking: Asking,
  environment: Environment,
  body: Body,
  watch?: Watch,
): Promise<EffectReply> {
  const beganAt = parts.now();
  const rows = await outcomesOf(environment, body.notification);
  if (rows.length === 0) throw new Problem('not-found', `The notification ${body.notification} has no deliveries.`);
  const best = await bestByPerson(parts, environment, rows);
  const groups = [...new Set([...best.values()].map(({ outcome, variant }) => `${outcome} ${variant}`))].sort();
  const period = periodOf(best, body.withinMs, beganAt);
  const reader = await QuestionReader.of(parts, environment, {
    from: new Date(period.from).toISOString(),
    until: new Date(period.until).toISOString(),
  });
  const question = {
    ...reader.period,
    wanted: reader.wanted(body),
    withinMs: body.withinMs,
    groups: groups.map((name) => groupOf(best, name)),
  };
  const { answer, people } = await asking.ask(environment.db, { kind: 'effect', question }, reader.reading(), watch);
  const items = answer.map(({ people: count, did }, i) => {
    const name = groups[i] as string;
    return {
      outcome: name.slice(0, -2) as NotificationOutcome,
      variant: name.slice(-1),
      people: count,
      did,
      share: count === 0 ? null : did / count,
    };
  });
  return {
    from: new Date(period.from).toISOString(),
    until: new Date(period.until).toISOString(),
    zone: reader.zone,
    erased: people.erased,
    tookMs: Math.round(parts.now() - beganAt),
    items,
    p: chanceOf(items),
  };
}

/** A person with several devices counts once, by the best that became of the message. */
async function bestByPerson(parts: Parts, environment: Environment, rows: readonly OutcomeRow[]): Promise<Map<number, Best>> {
  const people = await parts.people.ofTargets(environment.db, rows);
  const best = new Map<number, Best>();
  for (const [i, { outcome, variant, at }] of rows.entries()) {
    const person = people[i];
    if (person === null || person === undefined) continue;
    const before = best.get(person);
    if (!before || RANK[outcome] > RANK[before.outcome]) best.set(person, { outcome, variant, at: at?.getTime() ?? 0 });
  }
  return best;
}

function groupOf(best: ReadonlyMap<number, Best>, name: string): EffectGroup {
  const own = [...best].filter(([, { outcome, variant }]) => `${outcome} ${variant}` === name);
  return { people: Uint32Array.from(own, ([person]) => person), at: Float64Array.from(own, ([, { at }]) => at) };
}

function periodOf(best: ReadonlyMap<number, Best>, withinMs: number, now: number): { from: number; until: number } {
  const times = [...best.values()].map(({ at }) => at);
  const from = times.reduce((least, at) => Math.min(least, at), now - 1);
  const last = times.reduce((most, at) => Math.max(most, at), from);
  return { from, until: Math.max(from + 1, Math.min(now, last + withinMs)) };
}

function chanceOf(items: EffectReply['items']): number | null {
  const sum = (outcome: NotificationOutcome) =>
    items
      .filter((item) => item.outcome === outcome)
      .reduce((all, { people, did }) => ({ people: all.people + people, did: all.did + did }), { people: 0, did: 0 });
  const [opened, missed] = [sum('opened'), sum('not reached')];
  return opened.people === 0 || missed.people === 0 ? null : twoProportions(opened.did, opened.people, missed.did, missed.people);
}
