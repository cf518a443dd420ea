/** Merging what a device changed with what the service holds, and finding where two copies differ. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  byId,
  digestOf,
  digestRanges,
  type Held,
  type Json,
  type JsonObject,
  MERGE_POLICIES,
  mergeFields,
  mergePatch,
  patchTo,
} from '../src/index.js';

const item = fc.oneof(fc.integer({ min: 0, max: 3 }), fc.constantFrom('a', 'b'), fc.constant(null));
const value = fc.oneof(item, fc.uniqueArray(item, { maxLength: 3 })) as fc.Arbitrary<Json>;
const record = fc.record({ a: value, b: value, c: value }) as unknown as fc.Arbitrary<JsonObject>;
const services = () => undefined;
const after = (service: JsonObject, seen: JsonObject, device: JsonObject, policy = services as Parameters<typeof mergeFields>[3]) => ({
  ...service,
  ...mergeFields(seen, device, service, policy).values,
});

describe('what a device and the service both changed', () => {
  it('stands side by side where the fields differ', () => {
    const base = { name: 'Col hut', bunks: 12, state: 'open' };
    const merged = mergeFields({ bunks: 12 }, { bunks: 14 }, { ...base, state: 'closed' }, services);
    expect(merged).toEqual({ values: { bunks: 14 }, conflicts: [] });
  });

  it.each([
    ['service', undefined, 3, 4, 5, 5],
    ['device', 'device', 3, 4, 5, 4],
    ['larger', 'larger', 3, 4, 5, 5],
    ['smaller', 'smaller', 3, 4, 5, 4],
    ['larger of two days', 'larger', '2026-07-01', '2026-07-14', '2026-07-10', '2026-07-14'],
    ['larger where one is gone', 'larger', 3, null, 5, 5],
    ['union', 'union', ['a', 'b'], ['b', 'c'], ['a', 'b', 'd'], ['b', 'd', 'c']],
    ['union of objects', 'union', [], [{ x: 1, y: 2 }], [{ y: 2, x: 1 }, 'z'], [{ y: 2, x: 1 }, 'z']],
  ])('is settled as the field says: %s', (_name, policy, seen, device, service, kept) => {
    const { values, conflicts } = mergeFields({ f: seen }, { f: device }, { f: service }, () => policy as never);
    expect('f' in values ? values.f : service).toEqual(kept);
    expect(conflicts).toEqual([{ field: 'f', device, service, kept }]);
  });

  it('is no conflict where both sides came to the same', () => {
    expect(mergeFields({ f: 1 }, { f: { x: 1, y: [2] } }, { f: { y: [2], x: 1 } }, services)).toEqual({ values: {}, conflicts: [] });
  });

  it('gives the device everything where nobody else changed anything, and changes nothing the device did not', () => {
    fc.assert(
      fc.property(record, record, (base, device) => {
        expect(after(base, base, device)).toEqual({ ...base, ...device });
        expect(after(base, {}, {})).toEqual(base);
      }),
    );
  });

  it('is merged the same a second time, so that a change sent twice changes nothing', () => {
    fc.assert(
      fc.property(record, record, record, fc.constantFrom(...MERGE_POLICIES), (seen, device, service, policy) => {
        const fits = (one: Json) => policy !== 'union' || Array.isArray(one);
        const [was, wanted, is] = [seen, device, service].map((one) => Object.fromEntries(Object.entries(one).filter(([, v]) => fits(v))));
        const once = after(is as JsonObject, was as JsonObject, wanted as JsonObject, () => policy);
        expect(after(once, was as JsonObject, wanted as JsonObject, () => policy)).toEqual(once);
      }),
    );
  });
});

describe('a patch from one value to another', () => {
  const nested = fc.letrec<{ value: Json }>((tie) => ({
    value: fc.oneof(
      { depthSize: 'small' },
      fc.integer(),
      fc.string(),
      fc.array(fc.integer(), { maxLength: 3 }),
      fc.dictionary(fc.constantFrom('a', 'b', 'c', '__proto__'), tie('value'), { maxKeys: 3 }) as fc.Arbitrary<JsonObject>,
    ),
  })).value;

  it('makes it the other', () => {
    fc.assert(
      fc.property(nested, nested, (from, to) => {
        expect(mergePatch(from, patchTo(from, to))).toEqual(to);
      }),
    );
  });
});

describe('digests of ranges', () => {
  const held = fc
    .uniqueArray(
      fc.record({
        id: fc.string({ unit: fc.constantFrom(...'0123456789abcdef'), minLength: 1, maxLength: 6 }),
        version: fc.integer({ min: 1, max: 9 }),
      }),
      {
        selector: ({ id }) => id,
        maxLength: 900,
      },
    )
    .map((all) => all.sort(byId));
  const within = (all: readonly Held[], after: string | null, until: string | null) =>
    all.filter(({ id }) => (after === null || id > after) && (until === null || id <= until));

  it('cover every record once, in ranges without a gap', () => {
    fc.assert(
      fc.property(held, (all) => {
        const ranges = digestRanges(all);
        expect(ranges.reduce((sum, { count }) => sum + count, 0)).toBe(all.length);
        expect(ranges.at(-1)?.until).toBeNull();
      }),
      { numRuns: 30 },
    );
  });

  it('differ exactly where a record is missing, new or of another version', () => {
    fc.assert(
      fc.property(held, fc.nat(), fc.constantFrom('version', 'missing', 'new'), (all, pick, how) => {
        fc.pre(all.length > 0);
        const at = pick % all.length;
        const one = all[at] as Held;
        const other =
          how === 'version'
            ? all.with(at, { ...one, version: one.version + 1 })
            : how === 'missing'
              ? all.toSpliced(at, 1)
              : [...all, { id: `${one.id}x`, version: 1 }].sort(byId);
        let after: string | null = null;
        const differing = digestRanges(all).filter(({ until, count, digest }) => {
          const part = within(other, after, until);
          after = until;
          return part.length !== count || digestOf(part) !== digest;
        });
        expect(differing).toHaveLength(1);
      }),
      { numRuns: 50 },
    );
  });
});
