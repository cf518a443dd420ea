/** How far the alerting of an incident has come, and what is due next. */
import type { AlertRule, AlertTarget } from '@orchard/contract';
import { CONDITIONS, type EnvironmentCondition } from '@orchard/core';

/** By the name of the rule. */
export type Progress = {
  rules: Record<string, { step: number; nextAt: number; remindAt: number }>;
  /** Ids of members who were told, and names of webhooks. */
  told: string[];
};
export const NO_PROGRESS: Progress = { rules: {}, told: [] };

const MINUTE_MS = 60_000;
export type Due = { rule: AlertRule; targets: AlertTarget[]; isReminder: boolean };

/** Whether a rule speaks of an incident. */
export function appliesTo({ on, from }: AlertRule, subject: string, condition: EnvironmentCondition): boolean {
  if (on === 'condition') return subject === 'condition' && CONDITIONS.indexOf(condition) >= CONDITIONS.indexOf(from);
  return on === 'budget' && subject.startsWith('budget ');
}

/**
 * What is due, and how far things are after that: the next step of a rule when the one before was not acknowledged in time, and
 * reminders to all that were told so far.
 * @returns `nextAt`: when to look again, milliseconds since 1970
 */
export function dueSteps(
  rules: readonly AlertRule[],
  { rules: before, told }: Progress,
  now: number,
): { due: Due[]; progress: Progress; nextAt: number } {
  const due: Due[] = [];
  const after: Progress['rules'] = {};
  for (const rule of rules) {
    const state = before[rule.name] ?? { step: -1, nextAt: now, remindAt: now + rule.remindAfterMin * MINUTE_MS };
    const hasNext = state.step + 1 < rule.steps.length;
    if (hasNext && state.nextAt <= now) {
      due.push({ rule, targets: rule.steps[state.step + 1] as AlertTarget[], isReminder: false });
      // A reminder that is due as well waits: nobody is told twice at once.
      const remindAt = state.remindAt <= now ? now + rule.remindAfterMin * MINUTE_MS : state.remindAt;
      after[rule.name] = { step: state.step + 1, nextAt: now + rule.nextAfterMin * MINUTE_MS, remindAt };
    } else if (state.remindAt <= now) {
      due.push({ rule, targets: rule.steps.slice(0, state.step + 1).flat(), isReminder: true });
      after[rule.name] = { ...state, remindAt: now + rule.remindAfterMin * MINUTE_MS };
    } else after[rule.name] = state;
  }
  const times = rules.flatMap(({ name, steps }) => {
    const { step, nextAt, remindAt } = after[name] as Progress['rules'][string];
    return step + 1 < steps.length ? [nextAt, remindAt] : [remindAt];
  });
  return { due, progress: { rules: { ...before, ...after }, told }, nextAt: Math.min(...times, Number.MAX_SAFE_INTEGER) };
}
