/** Questions about events: each scan against a slow obvious version, and against examples worked by hand. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { flatScope, readFilter } from '../src/index.js';
import {
  ArrivalsScan,
  BitBudget,
  checkEvent,
  type CountQuestion,
  CountScan,
  DAY_MS,
  differences,
  EffectScan,
  END,
  ERASED,
  type EventFilter,
  type EventGround,
  eventsOf,
  holdsAny,
  type FunnelAnswer,
  FunnelScan,
  type FunnelQuestion,
  type InsightEvent,
  joinCounts,
  joinFunnels,
  mergeSegments,
  openDay,
  packDay,
  PathsScan,
  PeopleSet,
  type PeopleShare,
  returnCurve,
  ReturnsScan,
  rowsOfShare,
  type Scan,
  type Segment,
  shareSegment,
  sharesOf,
  stepsOf,
  TIMES,
  TimesScan,
  topGroups,
  twoProportions,
  upperTail,
  visitNumber,
  VisitsScan,
} from '../src/insight/index.js';
import { IntReader, IntWriter } from '../src/insight/ints.js';
import { FUNNEL_ORDERS } from '../src/insight/words.js';

const DAY = Date.UTC(2026, 10, 16);
const MINUTE = 60_000;
const PEOPLE = 6;
const asking = { me: { id: null, roles: [] }, now: DAY };
const ground = { asking, people: PEOPLE, firstSeen: new Float64Array(PEOPLE) };
const nobody = new Uint32Array(0);

const eventOf = (person: number, minutes: number, name: string, properties: InsightEvent['properties'] = {}, visit = 0): InsightEvent => ({
  person,
  at: DAY + minutes * MINUTE,
  name,
  visit,
  properties,
});

/** Packs events by their days and opens them again. */
function segmentsOf(events: readonly InsightEvent[], alias = nobody): Segment[] {
  const byDay = new Map<number, InsightEvent[]>();
  for (const event of events) {
    const day = Math.floor(event.at / DAY_MS) * DAY_MS;
    byDay.set(day, [...(byDay.get(day) ?? []), event]);
  }
  return [...byDay]
    .sort(([a], [b]) => a - b)
    .map(([day, own]) => {
      const { rows, columns } = packDay(day, own);
      return openDay(day, rows, columns, alias);
    });
}
function ask<Answer>(scan: Scan<Answer>, events: readonly InsightEvent[], alias = nobody): Answer {
  for (const segment of segmentsOf(events, alias)) scan.add(segment);
  return scan.answer();
}

const filterOf = (text: string): EventFilter => ({
  condition: readFilter(
    text,
    flatScope(
      new Map([
        ['version', 'text'],
        ['nights', 'number'],
        ['event', 'text'],
      ] as const),
    ),
  ),
  types: new Map([
    ['version', 'text'],
    ['nights', 'number'],
  ] as const),
});

const anyEvent: fc.Arbitrary<InsightEvent> = fc.record({
  person: fc.integer({ min: 0, max: PEOPLE - 1 }),
  at: fc.integer({ min: DAY, max: DAY + 4 * DAY_MS - 1 }),
  name: fc.constantFrom('open', 'search', 'book', 'pay'),
  visit: fc.constantFrom(0, 0, 0, 7, 8),
  properties: fc.record(
    { version: fc.constantFrom('2.4', '2.5', '3.0'), nights: fc.integer({ min: 0, max: 9 }), tags: fc.constant(['a', 'b']) },
    { requiredKeys: [] },
  ) as fc.Arbitrary<InsightEvent['properties']>,
});
const anyEvents: fc.Arbitrary<InsightEvent[]> = fc.array(anyEvent, { maxLength: 60 });
const inOrder = (events: readonly InsightEvent[]) =>
  events
    .map((event, i) => ({ event, i }))
    .sort((a, b) => a.event.at - b.event.at || a.i - b.i)
    .map(({ event }) => event);
const period = { from: DAY, until: DAY + 4 * DAY_MS };
const days = stepsOf(period.from, period.until, 'day', 'UTC');
const all = (event: string | null, filter: EventFilter | null = null) => ({ event, filter });

describe('a packed day', () => {
  it('holds what was packed, by person and time, with ties in the order of arrival', () => {
    fc.assert(
      fc.property(anyEvents, (events) => {
        const back = segmentsOf(events).flatMap(eventsOf);
        const wanted = inOrder(events).sort(
          (a, b) => Math.floor(a.at / DAY_MS) - Math.floor(b.at / DAY_MS) || a.person - b.person || a.at - b.at,
        );
        expect(back).toEqual(wanted.map(({ properties, ...event }) => ({ ...event, properties: { ...properties } })));
      }),
    );
  });

  it('keeps numbers of every kind, times, and a property whose type changed', () => {
    const values = [0, -1, 2 ** 40, 0.1, -0.5, '2026-11-16T12:00:00.000Z', 'yes', true, false, ['x', 'y']];
    const events = values.map((value, i) => eventOf(0, i, 'e', { value }));
    expect(
      segmentsOf(events)
        .flatMap(eventsOf)
        .map(({ properties }) => properties.value),
    ).toEqual(values);
    expect(
      segmentsOf([eventOf(0, 0, 'e', { n: -3 }), eventOf(0, 1, 'e')])
        .flatMap(eventsOf)
        .map(({ properties }) => properties),
    ).toEqual([{ n: -3 }, {}]);
  });

  it('is the same in the buffers that Node.js unpacks into', () => {
    const events = Array.from({ length: 300 }, (_, i) => eventOf(0, i, 'e', { word: `w${i}`, share: i / 7 }, 9));
    const { rows, columns } = packDay(DAY, events);
    // A view that begins somewhere in a larger buffer, as those of the pool do.
    const buffers = [...columns].map(([name, bytes]) => [name, Buffer.concat([Buffer.alloc(3), bytes]).subarray(3)] as const);
    expect(eventsOf(openDay(DAY, rows, new Map(buffers), nobody))).toEqual(segmentsOf(events).flatMap(eventsOf));
    expect(segmentsOf(events).flatMap(eventsOf)[5]?.properties).toEqual({ word: 'w5', share: 5 / 7 });
  });

  it('drops people who were erased, and puts the rows of two who became one in order of time', () => {
    const alias = Uint32Array.from([0, 0, ERASED, 3]);
    const events = [eventOf(0, 10, 'a'), eventOf(1, 5, 'b'), eventOf(2, 7, 'c'), eventOf(3, 1, 'd'), eventOf(1, 20, 'e')];
    expect(
      segmentsOf(events, alias)
        .flatMap(eventsOf)
        .map(({ person, name }) => `${person}${name}`),
    ).toEqual(['0b', '0a', '0e', '3d']);
  });

  it('gives the same with what came later merged in as when all came at once', () => {
    const sameDay = (events: InsightEvent[]) => events.map((event) => ({ ...event, at: DAY + ((event.at - DAY) % DAY_MS) }));
    fc.assert(
      fc.property(anyEvents.map(sameDay), anyEvents.map(sameDay), (first, second) => {
        const [a, b] = [first, second].map((events) => segmentsOf(events)[0]);
        const merged = a && b ? mergeSegments(a, b) : (a ?? b);
        expect(merged ? eventsOf(merged) : []).toEqual(segmentsOf([...first, ...second]).flatMap(eventsOf));
      }),
    );
  });

  it('tells whether it holds somebody', () => {
    const { rows, columns } = packDay(DAY, [eventOf(3, 0, 'a'), eventOf(5, 1, 'b')]);
    const person = columns.get('person') as Uint8Array;
    expect([[5], [4], [3, 9]].map((people) => holdsAny(person, rows, new Set(people)))).toEqual([true, false, true]);
  });

  it('takes a tenth of what a row takes', () => {
    const events = Array.from({ length: 20_000 }, (_, i) =>
      eventOf(i % 500, (i * 7) % 1440, ['open', 'search', 'book'][i % 3] as string, { version: `2.${i % 4}`, nights: i % 9 }),
    );
    const { columns } = packDay(DAY, events);
    const bytes = [...columns.values()].reduce((sum, { length }) => sum + length, 0);
    expect(bytes / events.length).toBeLessThan(16);
  });
});

describe('a set of people', () => {
  it('counts everybody once, at every place of a word', () => {
    const set = new PeopleSet(64);
    for (let round = 0; round < 2; round++) for (let person = 0; person < 70; person++) set.add(person);
    expect([set.size, set.has(31), set.has(63), set.has(70)]).toEqual([70, true, true, false]);
  });

  it('is the same as a set, however many there are', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 0, max: 3_000 }), { maxLength: 1_200 }), (people) => {
        const [ours, theirs] = [new PeopleSet(100), new Set<number>()];
        for (const person of people) expect(ours.add(person)).toBe(!theirs.has(person) && Boolean(theirs.add(person)));
        expect([ours.size, [...ours].sort((a, b) => a - b)]).toEqual([theirs.size, [...theirs].sort((a, b) => a - b)]);
      }),
    );
  });
});

describe('a set of people made of others', () => {
  const anyPeople = fc.array(fc.integer({ min: 0, max: 3_000 }), { maxLength: 600 });

  it('holds everybody once, with room for bits and without', () => {
    fc.assert(
      fc.property(anyPeople, anyPeople, fc.constantFrom(0, 100, 1_000_000), (first, second, room) => {
        const setOf = (people: readonly number[]) => {
          const set = new PeopleSet(2_000, new BitBudget(room));
          for (const person of people) set.mark(person);
          return set;
        };
        const all = setOf(first);
        all.addAll(setOf(second));
        const wanted = [...new Set([...first, ...second])].sort((a, b) => a - b);
        expect([all.size, [...all].sort((a, b) => a - b)]).toEqual([wanted.length, wanted]);
      }),
    );
  });
});

describe('whole numbers in few bytes', () => {
  it('come back as they were, up to the largest', () => {
    const anyInt = fc.oneof(fc.maxSafeNat(), fc.nat(300), fc.constantFrom(127, 128, 2 ** 28 - 1, 2 ** 28, 2 ** 35, 2 ** 53 - 1));
    fc.assert(
      fc.property(fc.array(anyInt), (values) => {
        const writer = new IntWriter();
        for (const value of values) writer.write(value);
        const reader = new IntReader(writer.bytes);
        expect(values.map(() => reader.read())).toEqual(values);
      }),
    );
  });
});

describe('steps of time', () => {
  it('are days and weeks of the zone, also where a day has 23 or 25 hours', () => {
    const from = Date.parse('2026-10-24T22:00:00Z');
    expect(stepsOf(from, from + 3 * DAY_MS, 'day', 'Europe/Oslo').map((at) => new Date(at).toISOString())).toEqual([
      '2026-10-24T22:00:00.000Z',
      '2026-10-25T23:00:00.000Z',
      '2026-10-26T23:00:00.000Z',
    ]);
    expect(
      stepsOf(Date.parse('2026-11-18T12:00:00Z'), Date.parse('2026-11-24T00:00:00Z'), 'week', 'UTC').map((at) =>
        new Date(at).toISOString().slice(0, 10),
      ),
    ).toEqual(['2026-11-16', '2026-11-23']);
    expect(stepsOf(Date.parse('2026-01-31T12:00:00Z'), Date.parse('2026-03-01T00:00:01Z'), 'month', 'UTC')).toHaveLength(3);
  });
});

describe('counting', () => {
  it('agrees with going through all events, for counts, people, sums and groups', () => {
    const filter = filterOf("nights >= 2 AND version <> '3.0'");
    fc.assert(
      fc.property(anyEvents, fc.constantFrom('count', 'people', 'sum'), fc.boolean(), fc.boolean(), (events, of, filtered, grouped) => {
        const measure = of === 'sum' ? ({ of, property: 'nights' } as const) : ({ of } as { of: 'count' });
        const { series } = ask(
          new CountScan(
            { ...period, wanted: all('book', filtered ? filter : null), steps: days, by: grouped ? ['version'] : [], measure, top: 10 },
            ground,
          ),
          events,
        );
        const counted = events.filter(
          ({ name, properties: { nights, version } }) =>
            name === 'book' &&
            (of !== 'sum' || nights !== undefined) &&
            (!filtered || ((nights as number) >= 2 && version !== undefined && version !== '3.0')),
        );
        const value = (some: InsightEvent[]) =>
          of === 'count'
            ? some.length
            : of === 'people'
              ? new Set(some.map(({ person }) => person)).size
              : some.reduce((sum, { properties }) => sum + (properties.nights as number), 0);
        const groups = grouped ? [...new Set(counted.map(({ properties }) => properties.version ?? null))] : ['all'];
        for (const group of groups) {
          const own = counted.filter(({ properties }) => !grouped || (properties.version ?? null) === group);
          const found = series.find((one) => !grouped || one.group[0] === group);
          expect(found?.total).toBe(value(own));
          expect(found?.steps).toEqual(days.map((day) => value(own.filter(({ at }) => at >= day && at < day + DAY_MS))));
        }
      }),
    );
  });

  it('has percentiles, events per person, and puts the smaller groups together', () => {
    const events = Array.from({ length: 100 }, (_, i) => eventOf(i % 5, i, 'book', { nights: i, version: `v${i % 4}` }));
    const question = { ...period, wanted: all('book'), steps: days, by: [] as string[], top: 2 };
    const [median] = ask(new CountScan({ ...question, measure: { of: 'p50', property: 'nights' } }, ground), events).series;
    expect(median?.total).toBeGreaterThan(43);
    expect(median?.total).toBeLessThan(57);
    const [each] = ask(new CountScan({ ...question, measure: { of: 'perPerson' } }, ground), events).series;
    expect(each?.total).toBe(20);
    const { series, groups } = ask(new CountScan({ ...question, by: ['version'], measure: { of: 'people' } }, ground), events);
    expect([series.map(({ group }) => group), groups, series.at(-1)?.total]).toEqual([[['v0'], ['v1'], 'others'], 4, 5]);
  });

  it('grouped by person tell those who came first in the period from those who came before', () => {
    fc.assert(
      fc.property(anyEvents, (events) => {
        const from = DAY + DAY_MS;
        const first = firstSeen(events);
        const question = {
          from,
          until: period.until,
          wanted: all(null),
          steps: [from],
          by: ['person'],
          measure: { of: 'people' as const },
          top: 9,
        };
        const { series } = ask(new CountScan(question, { ...ground, firstSeen: first }), events);
        const there = [...new Set(events.filter(({ at }) => at >= from && at < period.until).map(({ person }) => person))];
        const isNew = (person: number) => (first[person] as number) >= from;
        expect(Object.fromEntries(series.map(({ group, total }) => [group[0], total]))).toEqual(
          Object.fromEntries(
            [
              ['first-time', there.filter(isNew).length] as const,
              ['returning', there.filter((person) => !isNew(person)).length] as const,
            ].filter(([, count]) => count > 0),
          ),
        );
      }),
    );
  });

  it('without an event, a filter over the name counts any', () => {
    const events = [eventOf(0, 0, 'open'), eventOf(0, 1, 'book'), eventOf(0, 2, 'pay')];
    const { series } = ask(
      new CountScan(
        {
          ...period,
          wanted: all(null, filterOf("event IN ('open', 'pay')")),
          steps: days,
          by: ['event'],
          measure: { of: 'count' },
          top: 5,
        },
        ground,
      ),
      events,
    );
    expect(series.map(({ group, total }) => [group[0], total])).toEqual([
      ['open', 1],
      ['pay', 1],
    ]);
  });
});

/** How far the best attempt of each person gets: every start is tried. */
function slowFunnel(events: readonly InsightEvent[], steps: string[], windowMs: number, order: 'ordered' | 'strict'): number[] {
  const reached = steps.map(() => 0);
  for (let person = 0; person < PEOPLE; person++) {
    const own = inOrder(events.filter((event) => event.person === person));
    let best = 0;
    for (const [first, { at: start, name }] of own.entries()) {
      if (name !== steps[0]) continue;
      let [step, at] = [1, first];
      while (step < steps.length) {
        const next = order === 'strict' ? at + 1 : own.findIndex((event, i) => i > at && event.name === steps[step]);
        const event = own[next];
        if (next < 0 || !event || event.name !== steps[step] || event.at - start > windowMs) break;
        [step, at] = [step + 1, next];
      }
      best = Math.max(best, step);
    }
    for (let step = 0; step < best; step++) reached[step] = (reached[step] as number) + 1;
  }
  return reached;
}

/** In any order: every choice of different events for the first steps is tried. */
function slowAnyOrder(events: readonly InsightEvent[], steps: string[], windowMs: number): number[] {
  const choose = (own: InsightEvent[], wanted: string[], taken: InsightEvent[]): boolean => {
    if (wanted.length === 0) return Math.max(...taken.map(({ at }) => at)) - Math.min(...taken.map(({ at }) => at)) <= windowMs;
    return own.some((event) => event.name === wanted[0] && !taken.includes(event) && choose(own, wanted.slice(1), [...taken, event]));
  };
  const people = [...Array(PEOPLE).keys()].map((person) => events.filter((event) => event.person === person));
  return steps.map((_, i) => people.filter((own) => choose(own, steps.slice(0, i + 1), [])).length);
}

const funnel = (steps: (string | { event: string; filter: EventFilter })[], more: Partial<FunnelQuestion> = {}): FunnelQuestion => ({
  ...period,
  steps: steps.map((step) => (typeof step === 'string' ? all(step) : step)),
  windowMs: DAY_MS,
  order: 'ordered',
  without: [],
  perVisit: false,
  by: [],
  top: 10,
  ...more,
});

describe('a funnel', () => {
  const names = fc.array(fc.constantFrom('open', 'search', 'book'), { minLength: 1, maxLength: 4 });

  it.each(['ordered', 'strict'] as const)('that is %s agrees with trying every start, also with the same event twice', (order) => {
    fc.assert(
      fc.property(anyEvents, names, fc.constantFrom(30 * MINUTE, DAY_MS, 4 * DAY_MS), (events, steps, windowMs) => {
        const { steps: found } = ask(new FunnelScan(funnel(steps, { order, windowMs }), ground), events);
        expect(found.map(({ people }) => people)).toEqual(slowFunnel(events, steps, windowMs, order));
      }),
      { numRuns: 300 },
    );
  });

  it('in any order agrees with trying every choice', () => {
    fc.assert(
      fc.property(fc.array(anyEvent, { maxLength: 25 }), names, fc.constantFrom(30 * MINUTE, DAY_MS), (events, steps, windowMs) => {
        const { steps: found } = ask(new FunnelScan(funnel(steps, { order: 'any', windowMs }), ground), events);
        expect(found.map(({ people }) => people)).toEqual(slowAnyOrder(events, steps, windowMs));
      }),
      { numRuns: 300 },
    );
  });

  const booking = [
    ...[0, 1, 2, 3].flatMap((person) => [
      eventOf(person, 0, 'open', { version: person < 2 ? '2.4' : '2.5' }),
      eventOf(person, person + 1, 'search'),
    ]),
    eventOf(0, 11, 'book'),
    eventOf(2, 33, 'book'),
    eventOf(3, 2000, 'book'),
  ];

  it('says how many get on, what share that is, and how long it takes', () => {
    const { steps, groups } = ask(new FunnelScan(funnel(['open', 'search', 'book'], { by: ['version'] }), ground), booking);
    expect(steps).toEqual([
      { event: 'open', people: 4, ofFirst: 1, ofPrevious: 1, medianMs: null },
      { event: 'search', people: 4, ofFirst: 1, ofPrevious: 1, medianMs: 2.5 * MINUTE },
      { event: 'book', people: 2, ofFirst: 0.5, ofPrevious: 0.5, medianMs: 20 * MINUTE },
    ]);
    expect(groups.map(({ group, steps: own }) => [group[0], ...own.map(({ people }) => people)])).toEqual([
      ['2.4', 2, 2, 1],
      ['2.5', 2, 2, 1],
    ]);
  });

  it('adds up, over time and by duration, to who began and who got through, in every order', () => {
    fc.assert(
      fc.property(anyEvents, names, fc.constantFrom('ordered' as const, 'strict' as const, 'any' as const), (events, steps, order) => {
        const question = { ...funnel(steps, { order, windowMs: DAY_MS }), trend: days };
        const { steps: found, trend, durations } = ask(new FunnelScan(question, ground), events);
        const sum = (values: number[]) => values.reduce((all, one) => all + one, 0);
        expect(sum(trend.map(({ people }) => people))).toBe(found[0]?.people);
        expect(sum(trend.map(({ through }) => through))).toBe(found.at(-1)?.people);
        expect(sum(durations.map(({ people }) => people))).toBe(found.at(-1)?.people);
        expect(trend.every(({ people, through }) => through <= people)).toBe(true);
      }),
    );
  });

  it('counts those who got through where they began, by how long they took from the first step', () => {
    const began = { ...funnel(['open', 'search', 'book'], { windowMs: 4 * DAY_MS }), trend: days };
    const { trend, durations } = ask(new FunnelScan(began, ground), booking);
    expect(trend[0]).toEqual({ people: 4, through: 3 });
    expect(durations.filter(({ people }) => people > 0)).toEqual([
      { upToMs: 30 * MINUTE, people: 1 },
      { upToMs: 60 * MINUTE, people: 1 },
      { upToMs: 7 * DAY_MS, people: 1 },
    ]);
  });

  it('ends at what must not come between, and knows who got how far', () => {
    const events = [...booking, eventOf(0, 5, 'pay')];
    const { steps, reached } = ask(new FunnelScan(funnel(['open', 'search', 'book'], { without: [all('pay')] }), ground), events);
    expect(steps.map(({ people }) => people)).toEqual([4, 4, 1]);
    expect([...(reached[2] as Uint32Array)]).toEqual([2]);
  });

  it('can be counted by visit: each is an attempt of its own', () => {
    const events = [0, 100, 200].flatMap((minutes) => [eventOf(0, minutes, 'open'), eventOf(0, minutes + 1, 'search')]);
    const { steps } = ask(new FunnelScan(funnel(['open', 'search', 'book'], { perVisit: true }), ground), [
      ...events,
      eventOf(0, 210, 'book'),
    ]);
    expect(steps.map(({ people }) => people)).toEqual([3, 3, 1]);
  });

  it('takes one step and twenty, and a filter at each', () => {
    expect(ask(new FunnelScan(funnel(['open']), ground), booking).steps).toMatchObject([{ people: 4 }]);
    const twenty = Array.from({ length: 20 }, (_, i) => eventOf(1, i, 'open', { nights: i }));
    expect(ask(new FunnelScan(funnel(Array<string>(20).fill('open')), ground), twenty).steps.at(-1)).toMatchObject({ people: 1 });
    const filtered = [
      { event: 'open', filter: filterOf('nights = 3') },
      { event: 'open', filter: filterOf('nights < 3') },
    ];
    expect(ask(new FunnelScan(funnel(filtered), ground), twenty).steps.map(({ people }) => people)).toEqual([1, 0]);
    expect(ask(new FunnelScan(funnel(filtered, { order: 'any' }), ground), twenty).steps.map(({ people }) => people)).toEqual([1, 1]);
  });
});

const firstSeen = (events: readonly InsightEvent[]) =>
  Float64Array.from({ length: PEOPLE }, (_, person) =>
    Math.min(...events.filter((event) => event.person === person).map(({ at }) => at), Number.POSITIVE_INFINITY),
  ).map((at) => (at === Number.POSITIVE_INFINITY ? Number.NaN : at));

describe('returns', () => {
  it('agree with going through all events, for those who come in a step, and in it or later', () => {
    fc.assert(
      fc.property(anyEvents, fc.boolean(), (events, orLater) => {
        const { cohorts } = ask(
          new ReturnsScan(
            { ...period, steps: days, first: null, again: all('open'), orLater, by: [], top: 9 },
            { ...ground, firstSeen: firstSeen(events) },
          ),
          events,
        );
        const dayOf = (at: number) => Math.floor((at - DAY) / DAY_MS);
        for (const [i, cohort] of cohorts.entries()) {
          const members = [...Array(PEOPLE).keys()].filter((person) => {
            const own = events.filter((event) => event.person === person).map(({ at }) => dayOf(at));
            return own.length > 0 && Math.min(...own) === i;
          });
          const there = (person: number, day: number) =>
            events.some((event) => event.person === person && event.name === 'open' && dayOf(event.at) === day);
          expect(cohort.people).toBe(members.length);
          for (let later = 1; later < days.length - i; later++) {
            const back = members.filter((person) =>
              days.some((_, day) => (orLater ? day >= i + later : day === i + later) && there(person, day)),
            );
            expect(cohort.returned[later]).toBe(back.length);
          }
          expect(cohort.returned[0]).toBe(members.length);
        }
      }),
    );
  });

  it('can begin with an event of one’s choice', () => {
    const events = [eventOf(0, 0, 'open'), eventOf(0, 1440, 'book'), eventOf(0, 2880, 'open'), eventOf(1, 0, 'open')];
    const { cohorts } = ask(
      new ReturnsScan(
        { ...period, steps: days, first: all('book'), again: all(null), orLater: false, by: [], top: 9 },
        { ...ground, firstSeen: firstSeen(events) },
      ),
      events,
    );
    expect(cohorts.map(({ people, returned }) => [people, returned[1] ?? 0])).toEqual([
      [0, 0],
      [1, 1],
      [0, 0],
      [0, 0],
    ]);
  });
});

describe('returns by group', () => {
  it('take people by what they were at their first time, and add up to all', () => {
    fc.assert(
      fc.property(anyEvents, (events) => {
        const question = { ...period, steps: days, first: all('open'), again: all(null), orLater: false, by: ['version'], top: 9 };
        const { cohorts, groups } = ask(new ReturnsScan(question, { ...ground, firstSeen: firstSeen(events) }), events);
        expect(groups.reduce((sum, { people }) => sum + people, 0)).toBe(cohorts.reduce((sum, { people }) => sum + people, 0));
        for (const { group, people } of groups) {
          const members = [...Array(PEOPLE).keys()].filter((person) => {
            const first = inOrder(events).find((event) => event.person === person && event.name === 'open');
            return first !== undefined && (first.properties.version ?? null) === group[0];
          });
          expect(people).toBe(members.length);
        }
      }),
    );
  });

  it('leave out the step that is not over', () => {
    const cohorts = [
      { people: 10, returned: [10, 4, 2] },
      { people: 30, returned: [30, 6] },
      { people: 5, returned: [5] },
    ];
    expect(returnCurve(cohorts)).toEqual([1, 0.4]);
  });
});

describe('arrivals', () => {
  it('count everybody once, where they came first, and who is there in each step', () => {
    fc.assert(
      fc.property(anyEvents, (events) => {
        const from = DAY + DAY_MS;
        const steps = stepsOf(from, period.until, 'day', 'UTC');
        const answer = ask(
          new ArrivalsScan(
            { from, until: period.until, filter: null, steps, by: ['version'], top: 9 },
            { ...ground, firstSeen: firstSeen(events) },
          ),
          events,
        );
        const firsts = [...firstSeen(events)];
        expect(answer.total).toBe(firsts.filter((at) => at >= from).length);
        expect(answer.before).toBe(firsts.filter((at) => at < from).length);
        expect(answer.steps).toEqual(
          steps.map((step) => {
            const within = (at: number) => at >= step && at < step + DAY_MS;
            return {
              new: firsts.filter(within).length,
              active: new Set(events.filter(({ at }) => within(at)).map(({ person }) => person)).size,
            };
          }),
        );
        expect(answer.groups.reduce((sum, { total }) => sum + total, 0)).toBe(answer.total);
      }),
    );
  });
});

describe('visits', () => {
  /** Events of one person, cut where silence is longer than 30 minutes or the name of the visit changes. */
  const slowVisits = (events: readonly InsightEvent[]) =>
    [...Array(PEOPLE).keys()].flatMap((person) => {
      const cut: InsightEvent[][] = [];
      for (const event of inOrder(events.filter((one) => one.person === person))) {
        const before = cut.at(-1)?.at(-1);
        const isSame = before && (before.visit && event.visit ? before.visit === event.visit : event.at - before.at <= 30 * MINUTE);
        if (isSame) cut.at(-1)?.push(event);
        else cut.push([event]);
      }
      return cut;
    });
  const question = { ...period, filter: null, steps: days, by: [] as string[], top: 5, gapMs: 30 * MINUTE };

  it('agree with cutting each person’s events at silence and at names', () => {
    const close = fc.array(
      anyEvent.map((event) => ({ ...event, at: DAY + Math.floor((event.at - DAY) / 40) })),
      { maxLength: 60 },
    );
    fc.assert(
      fc.property(close, (events) => {
        const { total, steps, lengths } = ask(new VisitsScan(question, ground), events);
        const slow = slowVisits(events);
        const sum = slow.reduce((all, visit) => all + (visit.at(-1)?.at ?? 0) - (visit[0]?.at ?? 0), 0);
        expect(total.visits).toBe(slow.length);
        expect(total.meanMs ?? 0).toBeCloseTo(slow.length === 0 ? 0 : sum / slow.length, 6);
        expect(steps.reduce((all, { visits }) => all + visits, 0)).toBe(slow.length);
        expect(lengths.reduce((all, { visits }) => all + visits, 0)).toBe(slow.length);
      }),
    );
  });

  it('go on over midnight, and are what the app says where it names them', () => {
    const night = [eventOf(0, 1430, 'open'), eventOf(0, 1450, 'search')];
    expect(ask(new VisitsScan(question, ground), night).total).toMatchObject({ visits: 1, meanMs: 20 * MINUTE, meanEvents: 2 });
    const named = [
      eventOf(0, 0, 'open', {}, visitNumber('a')),
      eventOf(0, 300, 'open', {}, visitNumber('a')),
      eventOf(0, 301, 'open', {}, visitNumber('b')),
    ];
    expect(ask(new VisitsScan(question, ground), named).total).toMatchObject({ visits: 2, people: 1, perPerson: 2 });
  });
});

describe('paths', () => {
  const events = [
    ...[0, 1, 2].flatMap((person) => [
      eventOf(person, 0, 'open'),
      eventOf(person, 1, 'search'),
      eventOf(person, 2, person === 2 ? 'pay' : 'book'),
    ]),
    eventOf(3, 0, 'open'),
    eventOf(0, 500, 'search'),
  ];
  const question = {
    ...period,
    wanted: all('open') as { event: string; filter: null },
    direction: 'after' as const,
    depth: 3,
    leastShare: 0,
  };

  it('lead on from an event to the end of the visit, the most frequent first', () => {
    const { total, next } = ask(new PathsScan(question, ground), events);
    expect(total).toBe(4);
    expect(next).toEqual([
      {
        event: 'search',
        count: 3,
        next: [
          { event: 'book', count: 2, next: [{ event: END, count: 2, next: [] }] },
          { event: 'pay', count: 1, next: [{ event: END, count: 1, next: [] }] },
        ],
      },
      { event: END, count: 1, next: [] },
    ]);
  });

  it('lead back from an event, and fold what is rare', () => {
    const back = ask(new PathsScan({ ...question, wanted: { event: 'book', filter: null }, direction: 'before' }, ground), events);
    expect(back.next).toMatchObject([{ event: 'search', count: 2, next: [{ event: 'open', count: 2, next: [{ event: END, count: 2 }] }] }]);
    const folded = ask(new PathsScan({ ...question, leastShare: 0.3 }, ground), events);
    expect(folded.next).toMatchObject([
      { event: 'search', next: [{ event: 'book' }, { event: null, count: 1 }] },
      { event: null, count: 1 },
    ]);
  });
});

describe('an event of an app', () => {
  const now = Date.parse('2026-11-26T12:00:00Z');
  const usual: EventGround = { now, skewMs: 0, plannedAs: () => null, refuseUnplanned: false, barred: new Set(['email']) };
  const good = {
    id: 'e1',
    name: 'booking_sent',
    at: '2026-11-26T11:59:00.000Z',
    visit: 'v1',
    properties: { nights: 2, quick: true, email: 'x', gone: null },
  };
  const check = (changes: object, ground: Partial<EventGround> = {}) =>
    checkEvent({ ...good, ...changes } as never, { ...usual, ...ground });

  it('is kept with the skew of its clock taken out, and without what is barred', () => {
    expect(check({}, { skewMs: -60_000 })).toEqual({
      ok: true,
      event: {
        id: 'e1',
        name: 'booking_sent',
        at: Date.parse('2026-11-26T11:58:00.000Z'),
        visit: visitNumber('v1'),
        properties: { nights: 2, quick: true },
        isPlanned: false,
      },
    });
  });

  it.each([
    ['no id', { id: undefined }, 'event-malformed', '`id`'],
    ['a name of 1,000 characters', { name: 'x'.repeat(1000) }, 'event-malformed', '`name`'],
    ['a control character in its name', { name: 'a\u0000b' }, 'event-malformed', '`name`'],
    ['no time', { at: undefined }, 'event-malformed', '`at`'],
    ['a time in words', { at: 'yesterday' }, 'event-malformed', '`at`'],
    ['a time of 1970', { at: '1970-01-01T00:00:00Z' }, 'event-too-late', 'seven days'],
    ['a time eight days ago', { at: '2026-11-18T11:00:00Z' }, 'event-too-late', 'seven days'],
    ['a time in the future', { at: '2026-11-26T12:02:00Z' }, 'event-in-future', 'skew'],
    ['a misspelt member', { propertys: {} }, 'event-malformed', 'did you mean `properties`?'],
    [
      'fifty-one properties',
      { properties: Object.fromEntries(Array.from({ length: 51 }, (_, i) => [`p${i}`, i])) },
      'event-malformed',
      '51 properties',
    ],
    ['a built-in name', { properties: { version: '1' } }, 'property-reserved', '`version`'],
    ['a property with a space', { properties: { 'how many': 1 } }, 'event-malformed', 'how many'],
    ['an object inside', { properties: { a: { b: 1 } } }, 'event-malformed', '`a` must be a text'],
    ['a list of numbers', { properties: { a: [1] } }, 'event-malformed', 'list of texts'],
    ['a text of 501 characters', { properties: { a: 'x'.repeat(501) } }, 'event-malformed', '501 characters'],
  ])('with %s is refused by name', (_, changes, problem, words) => {
    expect(check(changes)).toEqual({ ok: false, problem, detail: expect.stringContaining(words) });
  });

  it('that is not as planned is marked, or refused where only what is planned is taken', () => {
    const plannedAs = (name: string) =>
      name === 'booking_sent' ? { properties: { nights: { type: 'number' }, quick: { type: 'text' } } as const } : null;
    expect(check({}, { plannedAs })).toMatchObject({ ok: true, event: { isPlanned: false } });
    expect(check({}, { plannedAs, refuseUnplanned: true })).toEqual({
      ok: false,
      problem: 'property-unfit',
      detail: '`quick` is planned as text; it came as boolean.',
    });
    expect(check({ properties: { nights: 2 } }, { plannedAs, refuseUnplanned: true })).toMatchObject({
      ok: true,
      event: { isPlanned: true },
    });
    expect(check({ name: 'other' }, { plannedAs, refuseUnplanned: true })).toMatchObject({ ok: false, problem: 'event-unplanned' });
  });

  it('is judged without throwing, whatever it is', () => {
    fc.assert(fc.property(fc.jsonValue(), (value) => void checkEvent(value as never, usual)));
  });
});

describe('the effect of a message', () => {
  it('counts who did something in time, each by a moment of their own', () => {
    const events = [
      eventOf(0, 30, 'book'),
      eventOf(1, 200, 'book'),
      eventOf(2, 5, 'book'),
      eventOf(3, 40, 'search'),
      eventOf(4, 41, 'book'),
    ];
    const groups = [
      { people: Uint32Array.of(0, 1, 2), at: Float64Array.of(DAY, DAY, DAY + 10 * MINUTE) },
      { people: Uint32Array.of(3, 5), at: Float64Array.of(DAY, DAY) },
    ];
    const answer = ask(new EffectScan({ ...period, wanted: all('book'), withinMs: 60 * MINUTE, groups }, ground), events);
    // One in time, one too late, one before it was opened; of the others none.
    expect(answer).toEqual([
      { people: 3, did: 1 },
      { people: 2, did: 0 },
    ]);
  });
});

describe('times', () => {
  it('are how often each person did it in the period, as counting one by one finds', () => {
    fc.assert(
      fc.property(anyEvents, fc.constantFrom(null, 'nights > 4'), fc.integer({ min: 0, max: 90 }), (events, text, hours) => {
        const part = { from: DAY + hours * 60 * MINUTE, until: period.until };
        const { people, times } = ask(new TimesScan({ ...part, wanted: all('book', text ? filterOf(text) : null) }, ground), events);
        const slow = new Map<number, number>();
        for (const { person, name, at, properties } of events)
          if (name === 'book' && at >= part.from && (!text || Number(properties.nights ?? 0) > 4))
            slow.set(person, (slow.get(person) ?? 0) + 1);
        expect([...people].map((person, i) => [person, times[i]])).toEqual([...slow].sort(([a], [b]) => a - b));
      }),
    );
  });

  it.each([
    "times('book')",
    "times('', 3)",
    "times('book', 0)",
    "times('book', 1.5)",
    "times('book', 401)",
    "times('book', 3, 4)",
    'times(name, 3)',
  ])('are not asked for as %s', (text) => {
    const scope = flatScope(new Map([['name', 'text']] as const), new Map([['times', TIMES]]));
    expect(() => readFilter(`${text} > 0`, scope)).toThrow(/Expected times\('event', days\)|takes texts and numbers/);
  });
});

describe('differences', () => {
  it('rank what tells those who stopped from those who went on, and leave out what may be chance', () => {
    const counted = [
      { property: 'timeZone', value: 'Asia/Kathmandu', stopped: 80, went: 4 },
      { property: 'version', value: '2.6.0', stopped: 95, went: 60 },
      { property: 'platform', value: 'ios', stopped: 52, went: 98 },
      { property: 'model', value: 'rare', stopped: 3, went: 0 },
    ];
    expect(differences(counted, 100, 200).map(({ value }) => value)).toEqual(['Asia/Kathmandu', '2.6.0']);
    expect(differences(counted, 0, 200)).toEqual([]);
  });

  it('have the p of the textbook', () => {
    expect(upperTail(1.959964)).toBeCloseTo(0.025, 6);
    // Pooled share 0.45, standard error 0.0704, z = 1.4213.
    expect(twoProportions(50, 100, 40, 100)).toBeCloseTo(0.1552, 3);
    expect(twoProportions(0, 10, 0, 10)).toBe(1);
  });
});

describe('shares of the people', () => {
  const anyCut = fc.integer({ min: 0, max: PEOPLE });
  const asked = <S extends Scan<unknown>>(make: () => S, events: readonly InsightEvent[], shares: readonly PeopleShare[]): S[] =>
    shares.map((share) => {
      const scan = make();
      for (const segment of segmentsOf(events)) scan.add(rowsOfShare(shareSegment(segment), share));
      return scan;
    });
  const cutAt = (cut: number): PeopleShare[] => [
    { from: 0, until: cut },
    { from: cut, until: ERASED },
  ];
  const measures: CountQuestion['measure'][] = [
    { of: 'count' },
    { of: 'people' },
    { of: 'perPerson' },
    { of: 'mean', property: 'nights' },
    { of: 'p50', property: 'nights' },
  ];

  const counted = (question: CountQuestion, events: readonly InsightEvent[], cut: number) => {
    const parts = asked(() => new CountScan(question, ground), events, cutAt(cut));
    const top = topGroups(
      question,
      parts.map((part) => part.sizes()),
    );
    return joinCounts(
      question,
      top,
      parts.map((part) => part.part(top.keys)),
    );
  };
  /** Groups of one size may come in another order. */
  const byName = <Any extends { group: unknown }>(series: readonly Any[]) =>
    [...series].sort((a, b) => JSON.stringify(a.group).localeCompare(JSON.stringify(b.group)));

  it('have counts that add up to those of all', () => {
    fc.assert(
      fc.property(anyEvents, anyCut, fc.constantFrom(...measures), fc.boolean(), (events, cut, measure, isGrouped) => {
        const question = { ...period, wanted: all(null), steps: days, by: isGrouped ? ['version'] : [], measure, top: 10 };
        const [joined, whole] = [counted(question, events, cut), ask(new CountScan(question, ground), events)];
        expect([joined.groups, byName(joined.series)]).toEqual([whole.groups, byName(whole.series)]);
      }),
    );
  });

  it('agree on which groups have the most, and count the people of the others once', () => {
    const of = (person: number, versions: string[]) => versions.map((version, i) => eventOf(person, i, 'open', { version }));
    const events = [
      ...of(0, ['2.4', '2.4', '2.5']),
      ...of(1, ['2.5', '3.0']),
      ...of(4, ['3.0', '3.0', '3.0', '2.4']),
      ...of(5, ['2.5', '2.4']),
    ];
    const question: CountQuestion = { ...period, wanted: all(null), steps: days, by: ['version'], measure: { of: 'people' }, top: 1 };
    expect(counted(question, events, 2)).toEqual(ask(new CountScan(question, ground), events));
    expect(counted(question, events, 2).series.map(({ group, total }) => [group, total])).toEqual([
      [['2.4'], 3],
      ['others', 4],
    ]);
  });

  it('have funnels that add up to that of all', () => {
    fc.assert(
      fc.property(anyEvents, anyCut, fc.constantFrom(...FUNNEL_ORDERS), (events, cut, order) => {
        const question = funnel(['open', 'search', 'book'], { order, by: ['version'], trend: days });
        const make = () => new FunnelScan(question, ground);
        const parts = asked(make, events, cutAt(cut)).map((scan) => scan.part());
        const named = (answer: FunnelAnswer) => ({ ...answer, groups: byName(answer.groups) });
        expect(named(joinFunnels(question, parts))).toEqual(named(ask(make(), events)));
      }),
    );
  });

  it('have about as many rows each', () => {
    const events = Array.from({ length: 60 }, (_, i) => eventOf(i < 40 ? 0 : (i % 5) + 1, i, 'open'));
    const [first, second] = sharesOf(PEOPLE, 2, segmentsOf(events));
    expect([first?.from, second?.until]).toEqual([0, ERASED]);
    expect(sharesOf(100, 4, []).map(({ from }) => from)).toEqual([0, 25, 50, 75]);
    expect(
      segmentsOf(events)
        .map((segment) => shareSegment(segment))
        .every(({ person }) => person.buffer instanceof SharedArrayBuffer),
    ).toBe(true);
  });
});
