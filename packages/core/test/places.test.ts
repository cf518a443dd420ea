/** Places on the globe: distances, boxes, and what lies inside an area. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { boxesAround, boxOf, distanceM, edgesOf, isInside, isOnGlobe, type Position } from '../src/filter/geometry.js';

const place = fc.tuple(
  fc.double({ min: -180, max: 180, noNaN: true }),
  fc.double({ min: -89.9, max: 89.9, noNaN: true }),
) as fc.Arbitrary<Position>;
const isIn = ([x, y]: Position, [west, south, east, north]: readonly number[]) =>
  x >= (west as number) && x <= (east as number) && y >= (south as number) && y <= (north as number);

describe('a distance', () => {
  it('is the same there and back, and nothing to the place itself', () => {
    fc.assert(
      fc.property(place, place, (a, b) => {
        expect(Math.abs(distanceM(a, b) - distanceM(b, a))).toBeLessThanOrEqual(0.001);
        expect(distanceM(a, a)).toBe(0);
      }),
    );
  });

  it('is never longer than half of the globe, nor than a detour', () => {
    // Near the opposite point the arc sine is steep: the last bit of a double is worth the radius times √(2·2⁻⁵²), 13 cm.
    const roundingM = 6_370_986 * Math.sqrt(2 * Number.EPSILON);
    fc.assert(
      fc.property(place, place, place, (a, b, c) => {
        expect(distanceM(a, b)).toBeLessThanOrEqual(Math.PI * 6_370_986 + 0.001);
        expect(distanceM(a, c)).toBeLessThanOrEqual(distanceM(a, b) + distanceM(b, c) + 2 * roundingM);
      }),
    );
  });

  it.each<[string, Position, Position, number]>([
    ['a degree of latitude', [8, 61], [8, 62], 111_194.682],
    ['a degree of longitude on the equator', [0, 0], [1, 0], 111_194.682],
    ['across the antimeridian', [179.5, 0], [-179.5, 0], 111_194.682],
    ['from pole to pole', [0, -90], [90, 90], Math.round(Math.PI * 6_370_986 * 1000) / 1000],
  ])('%s', (_, from, to, metres) => expect(Math.abs(distanceM(from, to) - metres)).toBeLessThan(1));
});

describe('the boxes around a place', () => {
  it('hold every place within the radius, at the antimeridian and the poles too', () => {
    fc.assert(
      fc.property(place, place, (center, other) => {
        const boxes = boxesAround(center, distanceM(center, other));
        expect(boxes.some((box) => isIn(other, box))).toBe(true);
      }),
      { numRuns: 1000 },
    );
  });

  it('leave out what is far away', () => {
    const [box, ...more] = boxesAround([8.3, 61.3], 5000);
    expect(more).toEqual([]);
    expect(isIn([8.5, 61.3], box as number[])).toBe(false);
    expect(isIn([8.3, 61.4], box as number[])).toBe(false);
  });

  it('are two across the antimeridian, and reach all around at a pole', () => {
    expect(boxesAround([179.99, 10], 5000).map((box) => box.map(Math.round))).toEqual([
      [180, 10, 180, 10],
      [-180, 10, -180, 10],
    ]);
    expect(boxesAround([8, 89.99], 5000).map(([west, , east]) => [west, east])).toEqual([[-180, 180]]);
  });
});

describe('an area', () => {
  const square: Position[] = [
    [0, 0],
    [4, 0],
    [4, 4],
    [0, 4],
    [0, 0],
  ];
  const hole: Position[] = [
    [1, 1],
    [1, 3],
    [3, 3],
    [3, 1],
    [1, 1],
  ];
  const edges = edgesOf([square, hole]);

  it.each<[string, Position, boolean]>([
    ['inside', [0.5, 2], true],
    ['in the hole', [2, 2], false],
    ['outside', [5, 2], false],
    ['level with a corner, outside', [5, 4], false],
    ['level with a corner of the hole, inside', [0.5, 3], true],
  ])('%s', (_, at, inside) => expect(isInside(at, edges, true)).toBe(inside));

  it.each<[string, Position]>([
    ['on a side', [4, 2]],
    ['on a corner', [0, 0]],
    ['on the side of the hole', [1, 2]],
  ])('%s belongs to it only where sides do', (_, at) => {
    expect(isInside(at, edges, true)).toBe(true);
    expect(isInside(at, edges, false)).toBe(false);
  });

  it('gives the same answer whichever way its ring runs, and wherever it begins', () => {
    const inner = square.slice(0, -1);
    fc.assert(
      fc.property(
        fc.tuple(fc.integer({ min: -1, max: 5 }), fc.integer({ min: -1, max: 5 })),
        fc.nat(3),
        fc.boolean(),
        fc.boolean(),
        (at, start, back, boundary) => {
          const turned = [...inner.slice(start), ...inner.slice(0, start)];
          const ring = [...turned, turned[0] as Position];
          const other = edgesOf([back ? ring.reverse() : ring]);
          expect(isInside(at, other, boundary)).toBe(isInside(at, edgesOf([square]), boundary));
        },
      ),
    );
  });

  it('has a box around all of its corners', () => expect(boxOf(square)).toEqual([0, 0, 4, 4]));
});

it('a place is on the globe up to its edges', () => {
  expect([isOnGlobe([180, 90]), isOnGlobe([-180, -90]), isOnGlobe([180.001, 0]), isOnGlobe([0, 90.001])]).toEqual([
    true,
    true,
    false,
    false,
  ]);
});
