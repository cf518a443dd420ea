/** Digests by the clock of their readers, changes in words, charts, and the mail that comes of it. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  type Block,
  changeOf,
  chartSvg,
  type Digest,
  type DigestRhythm,
  digestMail,
  digestPeriod,
  figureWords,
  nextDigestAt,
  niceStep,
  periodWords,
  tablesOf,
} from '../src/index.js';
import { wallMs as wall } from '../src/messages/index.js';

const OSLO = 'Europe/Oslo';
const weekly = { every: 'week', at: '07:30', weekday: 1 } as const;
const DAY_MS = 86_400_000;

describe('the next digest', () => {
  it.each([
    ['on Monday morning, by the clock of the zone', '2026-11-26T05:00:00Z', weekly, '2026-11-30T06:30:00.000Z'],
    ['on the same Monday while it is earlier', '2026-11-30T06:29:59Z', weekly, '2026-11-30T06:30:00.000Z'],
    ['a week later at that very moment', '2026-11-30T06:30:00Z', weekly, '2026-12-07T06:30:00.000Z'],
    // Summer time ended on 25 October.
    ['an hour later in UTC once summer time ends', '2026-10-20T00:00:00Z', weekly, '2026-10-26T06:30:00.000Z'],
    ['tomorrow, where today’s has passed', '2026-11-26T09:00:00Z', { ...weekly, every: 'day' as const }, '2026-11-27T06:30:00.000Z'],
    ['on the first of the month', '2026-12-15T00:00:00Z', { ...weekly, every: 'month' as const }, '2027-01-01T06:30:00.000Z'],
    ['on Sunday, where that is chosen', '2026-11-26T05:00:00Z', { ...weekly, weekday: 7 }, '2026-11-29T06:30:00.000Z'],
  ])('comes %s', (_, after, schedule, due) => expect(new Date(nextDigestAt(Date.parse(after), schedule, OSLO)).toISOString()).toBe(due));

  it('speaks of the whole days before it, also where a day has 25 hours', () => {
    const period = digestPeriod(Date.parse('2026-10-26T06:30:00Z'), weekly, OSLO);
    expect(new Date(period.from).toISOString()).toBe('2026-10-18T22:00:00.000Z');
    expect(new Date(period.until).toISOString()).toBe('2026-10-25T23:00:00.000Z');
    expect(periodWords(period.from, period.until, OSLO)).toBe('19 Oct to 25 Oct 2026');
    const month = digestPeriod(Date.parse('2026-03-01T07:00:00Z'), { ...weekly, every: 'month' }, 'UTC');
    expect(periodWords(month.from, month.until, 'UTC')).toBe('1 Feb to 28 Feb 2026');
  });

  it('is always later, at the wanted minute, and its period ends before it', () => {
    const zones = ['UTC', OSLO, 'America/St_Johns', 'Pacific/Chatham', 'Asia/Kathmandu'];
    fc.assert(
      fc.property(
        fc.integer({ min: Date.UTC(2026, 0, 1), max: Date.UTC(2027, 11, 31) }),
        fc.constantFrom<DigestRhythm>('day', 'week', 'month'),
        fc.integer({ min: 1, max: 7 }),
        fc.constantFrom(...zones),
        (after, every, weekday, zone) => {
          const schedule = { every, weekday, at: '12:15' };
          const due = nextDigestAt(after, schedule, zone);
          expect(due).toBeGreaterThan(after);
          expect(due - after).toBeLessThanOrEqual((every === 'month' ? 31 : every === 'week' ? 7 : 1) * DAY_MS + 3_600_000);
          expect(new Date(wall(due, zone)).toISOString().slice(11, 16)).toBe('12:15');
          const { from, until } = digestPeriod(due, schedule, zone);
          expect(from).toBeLessThan(until);
          expect(until).toBeLessThan(due);
          for (const edge of [from, until]) expect(wall(edge, zone) % DAY_MS).toBe(0);
        },
      ),
    );
  });
});

describe('a figure', () => {
  const figure = { label: 'p95', unit: 'ms', worse: 'higher' } as const;
  it.each([
    ['got worse', { ...figure, value: 120, before: 100 }, { text: '+20 %', isWorse: true, isBetter: false }],
    ['got better', { ...figure, value: 80, before: 100 }, { text: '−20 %', isWorse: false, isBetter: true }],
    ['moved too little to judge', { ...figure, value: 102, before: 100 }, { text: '+2 %', isWorse: false, isBetter: false }],
    ['is new', { ...figure, value: 3, before: 0 }, { text: 'none before', isWorse: true, isBetter: false }],
    [
      'of a share moves in points',
      { ...figure, unit: 'share' as const, value: 0.03, before: 0.01 },
      { text: '+2 points', isWorse: true, isBetter: false },
    ],
    ['that is neither good nor bad', { ...figure, worse: null, value: 9, before: 3 }, { text: '+200 %', isWorse: false, isBetter: false }],
    ['without a past', { ...figure, value: 9, before: null }, { text: 'nothing to compare with', isWorse: false, isBetter: false }],
  ])('that %s says so', (_, given, change) => expect(changeOf(given)).toEqual(change));

  it('has its unit', () => {
    expect([
      figureWords('count', 1204),
      figureWords('ms', 7.26),
      figureWords('ms', 12_400),
      figureWords('share', 0.0123),
      figureWords('ms', null),
    ]).toEqual(['1,204', '7.3 ms', '12.4 s', '1.23 %', '–']);
  });
});

const chart: Extract<Block, { kind: 'chart' }> = {
  kind: 'chart',
  title: 'Latency <of all>',
  unit: 'ms',
  stepMs: DAY_MS,
  draw: 'line',
  from: Date.UTC(2026, 10, 16),
  series: [{ label: 'p95', colour: 'honey', values: [40, 48, null, 51, 60] }],
};

describe('a chart', () => {
  it('breaks its line at a gap, labels its steps, and escapes texts', () => {
    const svg = chartSvg(chart, 'UTC');
    expect(svg.match(/<polyline/g)).toHaveLength(2);
    expect(svg).toContain('16 Nov');
    expect(svg).toContain('60 ms');
    expect(svg).toContain('Latency &#60;of all&#62;');
    expect(svg).not.toContain('<of all>');
  });

  it('stacks bars to the sum, and draws a single point as a dot', () => {
    const bars = chartSvg(
      {
        ...chart,
        draw: 'bar',
        unit: 'calls',
        series: [chart.series[0] as never, { label: 'failed', colour: 'plum', values: [60, 0, 0, 0, 1] }],
      },
      'UTC',
    );
    expect(bars).toContain('>100<');
    expect(chartSvg({ ...chart, series: [{ label: 'p95', colour: 'honey', values: [1, null, null] }] }, 'UTC')).toContain('<circle');
  });

  it('has an axis with few, round steps that reach the largest value', () => {
    fc.assert(
      fc.property(fc.double({ min: 1e-3, max: 1e9, noNaN: true }), (most) => {
        const step = niceStep(most);
        expect(step * 4).toBeGreaterThanOrEqual(most * (1 - 1e-9));
        expect(step * 4).toBeLessThanOrEqual(most * 2.5 * (1 + 1e-9));
      }),
    );
  });
});

describe('the mail of a digest', () => {
  const blocks: Block[] = [
    { kind: 'care', items: [{ weight: 20, text: 'GET /huts got slower', link: '/quillfell-hiker/live/api-use' }] },
    { kind: 'figures', title: 'Figures', items: [{ label: 'Calls', value: 1204, unit: 'count', before: 1000, worse: null }] },
    chart,
    {
      kind: 'table',
      title: 'Problems',
      columns: [
        { name: 'problem', label: 'Problem', type: 'text' },
        { name: 'at', label: 'First', type: 'time' },
        { name: 'calls', label: 'Calls', type: 'number' },
      ],
      rows: [['=<b>bold</b>', '2026-11-20T18:20:00.000Z', 1312]],
      isCut: false,
    },
  ];
  const digest: Digest = {
    name: 'Board',
    every: 'week',
    from: Date.UTC(2026, 10, 16),
    until: Date.UTC(2026, 10, 23),
    zone: OSLO,
    base: 'https://orchard.example',
    reports: [{ title: 'Summary', app: 'quillfell-hiker', environment: 'live', from: 0, until: 1, zone: OSLO, madeAt: 2, blocks }],
    leftOut: 1,
    endLink: 'https://orchard.example/digest?token=t',
  };

  it('puts what needs care first, in the subject too', () => {
    const { subject, html, text } = digestMail(digest);
    expect(subject).toBe('Board, 16 Nov to 23 Nov 2026: 1 thing needs care');
    expect(html.indexOf('What needs care')).toBeLessThan(html.indexOf('Calls'));
    expect(text.indexOf('https://orchard.example/quillfell-hiker/live/api-use')).toBeLessThan(
      text.indexOf('Calls: 1,204 (+20.4 %)'.slice(0, 12)),
    );
    expect(text).toContain('1 environment is left out');
  });

  it('names its environments and zone, shows times there, and runs nothing that data brings', () => {
    const { html, text, charts } = digestMail(digest);
    expect(html).toContain('quillfell-hiker/live · times in Europe/Oslo');
    expect(html).toContain('Fri 20 Nov 2026, 19:20');
    expect(html).not.toContain('<b>bold');
    expect(html).toContain('src="cid:chart-0"');
    expect(charts).toHaveLength(1);
    expect(text).toContain('1,312');
  });

  it('attaches every table, with times that machines read', () => {
    const { tables } = digestMail(digest);
    expect(tables.map(({ name }) => name)).toEqual([
      'quillfell-hiker-live-summary-figures.csv',
      'quillfell-hiker-live-summary-latency-of-all.csv',
      'quillfell-hiker-live-summary-problems.csv',
    ]);
    expect(tablesOf(blocks)[1]?.rows[1]).toEqual(['2026-11-16T00:00:00.000Z', 40]);
    expect(tables[2]?.rows[1]?.[1]).toBe('2026-11-20T18:20:00.000Z');
  });
});
