/** How the alerting of an incident goes on: steps, reminders, and nobody twice for the same. */
import type { AlertRule } from '@orchard/contract';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { appliesTo, dueSteps, NO_PROGRESS, type Progress } from '../src/operations/alerts/progress.js';

const MINUTE_MS = 60_000;
const rule: AlertRule = {
  name: 'failing',
  on: 'condition',
  from: 'failing',
  steps: [[{ to: 'on-call', rota: 'duty' }], [{ to: 'role', role: 'owner' }]],
  nextAfterMin: 15,
  remindAfterMin: 30,
};

/** Who is told in which minute, as a job would that runs when it is asked to. */
function told(rules: readonly AlertRule[], minutes: number): [minute: number, what: string][] {
  const all: [number, string][] = [];
  let progress: Progress = NO_PROGRESS;
  for (let now = 0; now <= minutes * MINUTE_MS; ) {
    const { due, progress: after, nextAt } = dueSteps(rules, progress, now);
    for (const { targets, isReminder } of due)
      all.push([now / MINUTE_MS, `${isReminder ? 'again ' : ''}${targets.map(({ to }) => to).join(' ')}`]);
    progress = after;
    expect(nextAt).toBeGreaterThan(now);
    now = nextAt;
  }
  return all;
}

describe('an incident that nobody acknowledges', () => {
  it('is told to the first, then to the next, then again to all of them', () => {
    expect(told([rule], 65)).toEqual([
      [0, 'on-call'],
      [15, 'role'],
      [30, 'again on-call role'],
      [60, 'again on-call role'],
    ]);
  });

  it('is told by each rule on its own', () => {
    const other = { ...rule, name: 'other', steps: [[{ to: 'webhook' as const, webhook: 'ops' }]], remindAfterMin: 45 };
    expect(told([rule, other], 46)).toEqual([
      [0, 'on-call'],
      [0, 'webhook'],
      [15, 'role'],
      [30, 'again on-call role'],
      [45, 'again webhook'],
    ]);
  });

  it('is told each step once, and never more often than the rule says', () => {
    const steps = fc
      .integer({ min: 1, max: 5 })
      .map((count) => Array.from({ length: count }, () => [{ to: 'role' as const, role: 'owner' as const }]));
    const anyRule = fc.record({ steps, nextAfterMin: fc.integer({ min: 1, max: 60 }), remindAfterMin: fc.integer({ min: 5, max: 60 }) });
    fc.assert(
      fc.property(anyRule, (changes) => {
        const all = told([{ ...rule, ...changes }], 600);
        expect(all.filter(([, what]) => !what.startsWith('again'))).toHaveLength(changes.steps.length);
        const minutes = all.map(([minute]) => minute);
        expect(new Set(minutes).size).toBe(minutes.length);
      }),
    );
  });
});

it.each([
  ['condition', 'failing', 'failing', true],
  ['condition', 'stressed', 'failing', false],
  ['condition', 'stressed', 'stressed', true],
  ['budget month', 'failing', 'failing', false],
] as const)('an incident of %s that is %s is one for a rule from %s on: %s', (subject, condition, from, is) =>
  expect(appliesTo({ ...rule, from }, subject, condition)).toBe(is),
);
