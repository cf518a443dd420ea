/** Setup differences, what of them is chosen, how they read, and samples that name nobody. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  chosenParts,
  compareSetups,
  differenceMarkdown,
  differenceText,
  type Field,
  type Json,
  type JsonObject,
  pointsBetween,
  sampled,
  SetupConflict,
  type SetupParts,
} from '../src/index.js';

const KINDS = ['collections', 'topics'];
const scalar = fc.oneof(fc.integer({ min: 0, max: 3 }), fc.constantFrom<Json>('a', 'b', true, null));
const field = fc.record({ type: fc.constantFrom('text', 'integer'), min: scalar }, { requiredKeys: ['type'] });
const document = fc.record({
  fields: fc.dictionary(fc.constantFrom('a', 'b', 'c'), field),
  title: scalar,
}) as unknown as fc.Arbitrary<JsonObject>;
const parts = fc.record({
  collections: fc.dictionary(fc.constantFrom('huts', 'trails', 'walks'), document),
  topics: fc.dictionary(fc.constantFrom('ridge', 'huts'), document),
}) as unknown as fc.Arbitrary<SetupParts>;

/** What a release makes of a setup, by the documents of its changes. */
function applied(now: SetupParts, changes: ReturnType<typeof compareSetups>): SetupParts {
  const next = structuredClone(now);
  for (const { kind, name, after } of changes)
    if (after) (next[kind] ??= {})[name] = after;
    else delete next[kind]?.[name];
  return next;
}

describe('a setup difference', () => {
  it('is nothing between a setup and itself, and leads from any to any other', () => {
    fc.assert(
      fc.property(parts, parts, (now, wanted) => {
        expect(compareSetups(now, now, KINDS)).toEqual([]);
        const changes = compareSetups(now, wanted, KINDS);
        expect(applied(now, changes)).toEqual(wanted);
        expect(compareSetups(applied(now, changes), wanted, KINDS)).toEqual([]);
      }),
    );
  });

  it('says of each point what it was and what it is', () => {
    fc.assert(
      fc.property(document, document, (before, after) => {
        const at = (of: Json, path: string[]) =>
          path.reduce<Json | undefined>((value, name) => (value as JsonObject | undefined)?.[name], of);
        for (const point of pointsBetween(before, after)) {
          expect(at(before, point.path)).toEqual(point.before);
          expect(at(after, point.path)).toEqual(point.after);
        }
      }),
    );
  });

  it('of chosen parts leaves all others as they are', () => {
    fc.assert(
      fc.property(parts, parts, fc.constantFrom('collections/huts', 'topics/ridge', 'topics'), (now, wanted, only) => {
        const changes = compareSetups(now, chosenParts(wanted, now, [only]), KINDS);
        expect(changes.every(({ kind, name }) => kind === only || `${kind}/${name}` === only)).toBe(true);
      }),
    );
  });

  it('takes settings as they are given, and leaves those that are not', () => {
    const now = { entry: { '': { signUp: 'open', guests: true } } };
    expect(compareSetups(now, { entry: { '': { signUp: 'open' } } }, ['entry'])).toEqual([]);
    expect(compareSetups(now, { entry: { '': { signUp: 'closed' } } }, ['entry'])).toMatchObject([
      { action: 'change', after: { signUp: 'closed', guests: true }, points: [{ path: ['signUp'], before: 'open', after: 'closed' }] },
    ]);
  });

  it('knows a field again by `was`, with the indexes over it, and refuses where both names are there', () => {
    const now = {
      collections: { huts: { fields: { bunks: { type: 'integer' } }, indexes: [{ fields: ['bunks'] }] } },
    } as unknown as SetupParts;
    const wanted = (fields: object, indexed: string) =>
      ({ collections: { huts: { fields, indexes: [{ fields: [indexed] }] } } }) as unknown as SetupParts;
    const [change] = compareSetups(now, wanted({ beds: { type: 'integer', was: 'bunks' } }, 'beds'), KINDS);
    expect(change).toMatchObject({ renames: { beds: 'bunks' }, points: [] });
    const both = wanted({ beds: { type: 'integer', was: 'bunks' }, bunks: { type: 'integer' } }, 'beds');
    expect(() => compareSetups(now, both, KINDS)).toThrow(SetupConflict);
  });

  it('reads in a terminal and as Markdown, whatever the names', () => {
    const change = {
      ...(compareSetups({ topics: {} }, { topics: { 'ridge*': { title: 'x' } } }, KINDS)[0] as ReturnType<typeof compareSetups>[0]),
      effects: [{ text: '3 *devices* follow it no longer', loses: true, lockMs: 0 }],
      uses: [{ by: 'client ios', calls: 7, lastAt: '2026-07-14' }],
      blocked: null,
      hints: [],
    };
    expect(differenceText({ changes: [change] })).toBe(
      '+ topics/ridge*\n    ! 3 *devices* follow it no longer\n    used by client ios: 7 calls, last 2026-07-14\n\n1 to make.\n',
    );
    const markdown = differenceMarkdown({ base: '', changes: [change], steps: ['Add <b>'], loses: true });
    expect(markdown).toContain('- **make** `topics/ridge*`');
    expect(markdown).toContain('1. Add \\<b\\>');
  });
});

describe('a sample', () => {
  const fields = new Map<string, Field>([
    ['name', { type: 'text', personal: true, maxLength: 12 }],
    ['note', { type: 'text' }],
    ['nights', { type: 'integer' }],
    ['keeper', { type: 'reference', to: 'users' }],
    ['photo', { type: 'file' }],
  ]);
  let seed = 7;
  const random = () => (seed = (seed * 16_807) % 2_147_483_647) / 2_147_483_647;

  it('holds nothing that somebody wrote, of records that are somebody’s', () => {
    const text = fc.string({ minLength: 9 }).filter((value) => value.trim().length > 8);
    fc.assert(
      fc.property(text, text, (name, note) => {
        const made = sampled({ ownerId: 'u1', name, note, nights: 3, keeper: 'u2', photo: 'f1' }, fields, () => 'stand-in', random);
        expect(made).toMatchObject({ nights: 3, keeper: 'stand-in' });
        expect(made.photo).toBeUndefined();
        expect(JSON.stringify(made)).not.toContain(JSON.stringify(note).slice(1, -1));
        expect(String(made.name).length).toBeLessThanOrEqual(12);
      }),
    );
  });

  it('keeps what is nobody’s, apart from what is marked or looks like an address', () => {
    const of = (note: string) => sampled({ ownerId: null, name: 'Odd', note, nights: 3, keeper: null }, fields, () => null, random);
    expect(of('Snow on the path')).toMatchObject({ note: 'Snow on the path' });
    expect(of('odd@hikers.example').note).toMatch(/@people\.example$/);
    expect(of('+47 555 01 02').note).toMatch(/^\+1202555\d{4}$/);
    expect(of('x').name).not.toBe('Odd');
  });

  it('keeps to the length of a field where a whole mail address would not fit', () => {
    const made = sampled({ ownerId: null, name: 'o@hike.example', note: 'x', nights: 3, keeper: null }, fields, () => null, random);
    expect(String(made.name)).toMatch(/^[a-z ]{1,12}$/);
  });
});
