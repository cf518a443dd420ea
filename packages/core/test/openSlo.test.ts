/** Objectives as OpenSLO documents and back. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  isHigherWorse,
  isShare,
  type Measure,
  OpenSloError,
  readOpenSlo,
  type SloDocument,
  type SloObjective,
  type Subject,
  writeOpenSlo,
} from '../src/index.js';

const MINUTE_MS = 60_000;
const subject: fc.Arbitrary<Subject> = fc.oneof(
  fc.constantFrom<Subject>({ of: 'calls' }, { of: 'gateway' }, { of: 'jobs', kind: 'send' }, { of: 'client', name: 'hiker-ios' }),
  fc.constant<Subject>({ of: 'route', method: 'GET', route: '/app/v1/data/{collection}', target: 'huts' }),
);
const measure: fc.Arbitrary<Measure> = fc.oneof(
  fc.constantFrom<Measure>(
    { of: 'failed', as: 'share' },
    { of: 'failed', as: 'count' },
    { of: 'refused' },
    { of: 'delivered' },
    { of: 'backlog' },
  ),
  fc.constantFrom<Measure>({ of: 'latency', statistic: 'p95' }, { of: 'latency', statistic: 'mean' }),
  fc.integer({ min: 1, max: 60_000 }).map((ms): Measure => ({ of: 'within', ms })),
);
const objective: fc.Arbitrary<SloObjective> = fc
  .record({
    name: fc.stringMatching(/^[a-z][a-z0-9-]{0,20}$/),
    title: fc.option(fc.string({ minLength: 1 }), { nil: undefined }),
    subject,
    measure,
    windowMs: fc.integer({ min: MINUTE_MS, max: 30 * 1440 * MINUTE_MS }),
    one: fc.double({ min: 0, max: 1, noNaN: true }),
    other: fc.double({ min: 0, max: 1, noNaN: true }),
    leastCalls: fc.nat(1_000),
    leaveOut: fc.uniqueArray(fc.constantFrom('not-found', 'token-expired', 'version-conflict')),
  })
  .map(({ one, other, title, ...rest }) => {
    const scale = isShare(rest.measure) ? 1 : 100_000;
    const [low, high] = [Math.min(one, other) * scale, Math.max(one, other) * scale];
    const [stressed, failing] = isHigherWorse(rest.measure) ? [low, high] : [high, low];
    return { ...rest, ...(title === undefined ? {} : { title }), stressed, failing };
  });
const SERVICE = { name: 'quillfell-hiker-live', title: 'quillfell-hiker/live' };
const sloOf = (one: SloObjective) => writeOpenSlo(SERVICE, [one]).find(({ kind }) => kind === 'SLO') as SloDocument;

describe('an objective as OpenSLO', () => {
  it('comes back without loss, through text as well', () => {
    fc.assert(
      fc.property(fc.uniqueArray(objective, { selector: ({ name }) => name, minLength: 1, maxLength: 4 }), (objectives) => {
        const documents = JSON.parse(JSON.stringify(writeOpenSlo(SERVICE, objectives)));
        expect(readOpenSlo(documents).objectives).toEqual(objectives);
      }),
    );
  });

  it('has a target of at least 0 and below 1, as the standard wants it', () => {
    fc.assert(
      fc.property(objective, (one) => {
        const targets = sloOf(one).spec.objectives as { target: number }[];
        for (const { target } of targets) {
          expect(target).toBeGreaterThanOrEqual(0);
          expect(target).toBeLessThan(1);
        }
      }),
    );
  });

  it('is read where its indicator stands in a document of its own, and its target in per cent', () => {
    const slo = sloOf({
      name: 'failures',
      subject: { of: 'calls' },
      measure: { of: 'failed', as: 'share' },
      windowMs: 300_000,
      stressed: 0.01,
      failing: 0.05,
      leastCalls: 10,
      leaveOut: [],
    });
    const { indicator, ...spec } = slo.spec as { indicator: { spec: object } };
    const sli = { apiVersion: 'openslo/v1', kind: 'SLI', metadata: { name: 'failures' }, spec: indicator.spec };
    const objectives = [
      { displayName: 'stressed', targetPercent: 99 },
      { displayName: 'failing', targetPercent: 95 },
    ];
    const read = readOpenSlo([sli, { ...slo, spec: { ...spec, indicatorRef: 'failures', objectives } }]);
    expect(read.objectives).toMatchObject([{ stressed: 0.01, failing: 0.05 }]);
  });

  it.each<[string, unknown, string]>([
    ['of another version', { apiVersion: 'openslo/v2alpha', kind: 'SLO' }, 'documents.0.apiVersion'],
    ['of an unknown kind', { apiVersion: 'openslo/v1', kind: 'Board', metadata: { name: 'a' }, spec: {} }, 'documents.0.kind'],
    ['without a name', { apiVersion: 'openslo/v1', kind: 'SLO', metadata: {}, spec: {} }, 'documents.0.metadata.name'],
    ['without an indicator', { apiVersion: 'openslo/v1', kind: 'SLO', metadata: { name: 'a' }, spec: {} }, 'documents.0.spec.indicator'],
    ['that is no object', 'text', 'documents.0'],
  ])('%s says where the fault is', (_, document, path) => {
    const read = () => readOpenSlo([document]);
    expect(read).toThrow(OpenSloError);
    expect(read).toThrow(expect.objectContaining({ path }));
  });
});
