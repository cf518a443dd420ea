/** Which nodes of a cluster are used, where clocks differ. */
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { nodesInTime } from '../src/platform/database/nodes.js';

const usable = (aheadMs: number) => ({ state: 'usable' as const, aheadMs });
const away = { state: 'away' as const, aheadMs: 0 };
/** As networks and busy machines make it look. */
const noise = fc.integer({ min: -400, max: 400 });
const off = fc.oneof(fc.integer({ min: 5_000, max: 90_000_000 }), fc.integer({ min: -90_000_000, max: -5_000 }));

it('leaves one node out whose clock is off, whichever it is and however far', () => {
  fc.assert(
    fc.property(fc.tuple(noise, noise, noise), off, fc.nat(2), (clocks, ms, which) => {
      const looks = clocks.map((clock, node) => usable(node === which ? ms : clock));
      expect(nodesInTime(looks)).toEqual([0, 1, 2].filter((node) => node !== which));
    }),
  );
});

it('uses all nodes where it is the clock of this machine that is off', () => {
  fc.assert(
    fc.property(fc.tuple(noise, noise, noise), off, (clocks, ms) => {
      expect(nodesInTime(clocks.map((clock) => usable(clock + ms)))).toEqual([0, 1, 2]);
    }),
  );
});

it('has a node wherever one is usable, and none that is not', () => {
  const look = fc.oneof(fc.constant(away), fc.constant({ state: 'behind' as const, aheadMs: 0 }), fc.oneof(noise, off).map(usable));
  fc.assert(
    fc.property(fc.array(look, { maxLength: 5 }), (looks) => {
      const found = nodesInTime(looks);
      expect(found.length > 0).toBe(looks.some(({ state }) => state === 'usable'));
      expect(found.every((node) => looks[node]?.state === 'usable')).toBe(true);
    }),
  );
});
