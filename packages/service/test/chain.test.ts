/** The chain of audit entries as computation: whatever is done to it is noticed. */
import { randomBytes } from 'node:crypto';
import type { AuditText } from '@orchard/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ChainCheck, ChainKey, type Head, type NotedHead, type StoredEntry } from '../src/platform/audit/chain.js';

const key = new ChainKey(randomBytes(32));
const DATABASE = 'q3m7';

const part = fc.option(fc.string({ maxLength: 8 }), { nil: null });
const body = fc.record({
  actor: fc.constantFrom('member:1', 'token:2', 'service'),
  address: part,
  request: part,
  app: part,
  environment: part,
  action: fc.string({ maxLength: 8 }),
  kind: fc.constantFrom('topic', 'key'),
  subject: fc.string({ maxLength: 8 }),
  outcome: fc.constantFrom('done', 'begun', 'failed'),
  before: part,
  after: part,
});
type Chain = { entries: StoredEntry[]; head: Head | null };

/** A chain as the service writes it. */
function chainOf(bodies: Omit<AuditText, 'number' | 'id' | 'at'>[], database = DATABASE, by = key): Chain {
  const entries: StoredEntry[] = [];
  let mac = '';
  for (const [i, one] of bodies.entries()) {
    const entry = { ...one, number: i + 1, id: `entry-${i}`, at: new Date(i * 1000).toISOString() };
    mac = by.macOf(database, entry, mac);
    entries.push({ ...entry, mac });
  }
  return {
    entries,
    head: entries.length === 0 ? null : { number: entries.length, mac, seal: by.sealOf(database, { number: entries.length, mac }) },
  };
}
const chain = fc.array(body, { maxLength: 12 }).map((bodies) => chainOf(bodies));
const longChain = fc.array(body, { minLength: 2, maxLength: 12 }).map((bodies) => chainOf(bodies));

function faultsOf({ entries, head }: Chain, noted: NotedHead[] = [], database = DATABASE): string[] {
  const check = new ChainCheck(key, database, noted);
  for (const entry of entries) check.take(entry);
  check.end(head);
  return check.faults.map(({ fault }) => fault);
}

describe('a chain', () => {
  it('as it was written is whole, with every head there ever was', () => {
    fc.assert(
      fc.property(chain, (one) => {
        expect(
          faultsOf(
            one,
            one.entries.map(({ number, mac }) => ({ number, mac })),
          ),
        ).toEqual([]);
      }),
    );
  });

  it('of another database or another installation is not', () => {
    fc.assert(
      fc.property(longChain, (one) => {
        expect(faultsOf(one, [], 'other')).toContain('changed');
      }),
    );
    const foreign = chainOf([{ ...sample }], DATABASE, new ChainKey(randomBytes(32)));
    expect(faultsOf(foreign)).toEqual(['changed', 'head-changed']);
  });

  it('has faults when any part of any entry is changed', () => {
    const names = Object.keys(sample) as (keyof typeof sample)[];
    fc.assert(
      fc.property(longChain, fc.nat(), fc.constantFrom(...names), (one, at, name) => {
        const entries = one.entries.map((entry) => ({ ...entry }));
        const entry = entries[at % entries.length] as StoredEntry;
        (entry as Record<string, unknown>)[name] = `${entry[name]} changed`;
        expect(faultsOf({ ...one, entries })).toContain('changed');
      }),
    );
  });

  it('has faults when entries are left out, wherever', () => {
    fc.assert(
      fc.property(longChain, fc.nat(), fc.integer({ min: 1, max: 3 }), (one, from, length) => {
        const at = from % one.entries.length;
        const entries = one.entries.filter((_, i) => i < at || i >= at + length);
        const isEnd = at + length >= one.entries.length;
        expect(faultsOf({ ...one, entries })).toContain(isEnd ? 'cut-off' : 'missing');
      }),
    );
  });

  it('has faults when two entries change places, though their numbers are put right', () => {
    fc.assert(
      fc.property(longChain, fc.nat(), (one, at) => {
        const i = at % (one.entries.length - 1);
        const entries = one.entries.map((entry) => ({ ...entry }));
        const [a, b] = [entries[i] as StoredEntry, entries[i + 1] as StoredEntry];
        entries[i] = { ...b, number: a.number };
        entries[i + 1] = { ...a, number: b.number };
        expect(faultsOf({ ...one, entries })).toContain('changed');
      }),
    );
  });

  it('has faults when its end is cut off, whatever is written to the head without the key', () => {
    fc.assert(
      fc.property(longChain, fc.nat(), fc.boolean(), (one, keep, withoutSeal) => {
        const entries = one.entries.slice(0, keep % one.entries.length);
        const last = entries.at(-1);
        const head = { number: last?.number ?? 0, mac: last?.mac ?? '', seal: withoutSeal ? '' : (one.head as Head).seal };
        const faults = faultsOf({ entries, head });
        // Emptied of everything it looks like a new one, which is why heads are logged.
        if (entries.length === 0 && withoutSeal) expect(faults).toEqual([]);
        else expect(faults).toContain('head-changed');
      }),
    );
  });

  it('set back whole to an earlier state is told by any head that was noted since', () => {
    fc.assert(
      fc.property(fc.array(body, { minLength: 2, maxLength: 12 }), fc.nat(), (bodies, keep) => {
        const now = chainOf(bodies);
        const earlier = chainOf(bodies.slice(0, keep % bodies.length));
        expect(faultsOf(earlier), 'alone it is whole').toEqual([]);
        expect(faultsOf(earlier, [now.head as Head])).toEqual(['cut-off']);
      }),
    );
  });

  it('rewritten with the key itself is told by a noted head', () => {
    const before = chainOf([sample, sample]);
    const rewritten = chainOf([sample, { ...sample, subject: 'another' }]);
    expect(faultsOf(rewritten)).toEqual([]);
    expect(faultsOf(rewritten, [before.head as Head])).toEqual(['not-in-chain']);
  });

  it('names at most a hundred faults', () => {
    const entries = Array.from({ length: 300 }, (_, i) => ({ ...sample, number: i + 1, id: `${i}`, at: '', mac: 'x' }));
    expect(faultsOf({ entries, head: null })).toHaveLength(100);
  });
});

const sample = {
  actor: 'member:1',
  address: null,
  request: null,
  app: 'quillfell-hiker',
  environment: 'dev',
  action: 'topics.put',
  kind: 'topic',
  subject: 'ridge-weather',
  outcome: 'done',
  before: null,
  after: '{}',
};

it('a fingerprint is the same for the same value, and tells others apart', () => {
  expect(key.fingerprintOf('Runa')).toBe(key.fingerprintOf('Runa'));
  expect(key.fingerprintOf('Runa')).not.toBe(key.fingerprintOf('Kenji'));
  expect(new ChainKey(randomBytes(32)).fingerprintOf('Runa')).not.toBe(key.fingerprintOf('Runa'));
});
