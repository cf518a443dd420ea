/** A chart over time as SVG, in the colours of the console's pages: for mails, where no script runs. */
import type { Block, ChartSeries, SeriesColour } from './document.js';

const COLOURS: Record<SeriesColour, string> = {
  viridian: '#1f7a6d',
  persimmon: '#d9532c',
  plum: '#6b2d5c',
  honey: '#d99e2b',
  slate: '#3d5a80',
};
const PAPER = '#fbf8f2';
const INK = '#1d2a2b';
const DIMMED = '#55605f';
const RULE = '#ddd5c5';

const WIDTH = 640;
const HEIGHT = 240;
const PLOT = { left: 62, right: WIDTH - 14, top: 64, bottom: HEIGHT - 28 };
const TICKS = 4;
const LABELS = 8;

type Chart = Extract<Block, { kind: 'chart' }>;

const escaped = (text: string): string => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);
const fixed = (value: number): string => String(Math.round(value * 10) / 10);

/** The smallest of 1, 2, 2.5 or 5 times a power of ten that reaches the value in `ticks` steps. */
export function niceStep(most: number, ticks = TICKS): number {
  const rough = Math.max(most, 1e-9) / ticks;
  const power = 10 ** Math.floor(Math.log10(rough));
  return ([1, 2, 2.5, 5, 10].find((factor) => factor * power >= rough * (1 - 1e-12)) as number) * power;
}

/** @param zone of the reader; labels of the time axis are days there, hours within two days */
export function chartSvg(chart: Chart, zone: string): string {
  const count = Math.max(1, ...chart.series.map(({ values }) => values.length));
  const most = Math.max(
    ...(chart.draw === 'bar' ? stackSums(chart.series, count) : chart.series.flatMap(({ values }) => values.map((v) => v ?? 0))),
    0,
  );
  const step = niceStep(most);
  const top = step * Math.max(1, Math.ceil(most / step - 1e-9));
  const y = (value: number) => PLOT.bottom - (value / top) * (PLOT.bottom - PLOT.top);
  const parts = [
    `<rect width="${WIDTH}" height="${HEIGHT}" fill="${PAPER}"/>`,
    label(14, 22, escaped(chart.title), { size: 15, weight: 600 }),
    ...legend(chart.series),
    ...grid(step, top, chart.unit, y),
    ...timeLabels(chart, count, zone),
    ...(chart.draw === 'bar' ? bars(chart.series, count, y) : chart.series.flatMap((series) => lines(series, count, y))),
  ];
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${WIDTH}" height="${HEIGHT}" viewBox="0 0 ${WIDTH} ${HEIGHT}">${parts.join('')}</svg>`;
}

const stackSums = (series: readonly ChartSeries[], count: number): number[] =>
  Array.from({ length: count }, (_, i) => series.reduce((sum, { values }) => sum + (values[i] ?? 0), 0));

type TextStyle = { size: number; weight?: number; fill?: string; anchor?: 'start' | 'middle' | 'end' };
const label = (x: number, y: number, text: string, { size, weight = 400, fill = INK, anchor = 'start' }: TextStyle): string =>
  `<text x="${fixed(x)}" y="${fixed(y)}" font-family="Figtree" font-size="${size}" font-weight="${weight}" fill="${fill}" text-anchor="${anchor}">${text}</text>`;

/** Width of a character of the legend, roughly: the texts are measured where they are drawn, not here. */
const CHARACTER = 6.3;

function legend(series: readonly ChartSeries[]): string[] {
  let x = 14;
  return series.flatMap(({ label: name, colour }) => {
    const at = x;
    x += 30 + name.length * CHARACTER;
    return [
      `<rect x="${fixed(at)}" y="35" width="10" height="10" rx="2" fill="${COLOURS[colour]}"/>`,
      label(at + 15, 44, escaped(name), { size: 12, fill: DIMMED }),
    ];
  });
}

function grid(step: number, top: number, unit: string, y: (value: number) => number): string[] {
  const suffix = unit === 'ms' || unit === '%' ? ` ${unit}` : '';
  const ticks = Array.from({ length: Math.round(top / step) + 1 }, (_, i) => i * step);
  return ticks.flatMap((value) => [
    `<line x1="${PLOT.left}" x2="${PLOT.right}" y1="${fixed(y(value))}" y2="${fixed(y(value))}" stroke="${RULE}" stroke-width="1"/>`,
    label(PLOT.left - 6, y(value) + 4, `${value.toLocaleString('en-GB', { maximumFractionDigits: 2 })}${suffix}`, {
      size: 11,
      fill: DIMMED,
      anchor: 'end',
    }),
  ]);
}

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;

function timeLabels({ from, stepMs }: Chart, count: number, zone: string): string[] {
  const isShort = count * stepMs <= 2 * DAY_MS;
  const format = new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    ...(isShort ? { hour: '2-digit', minute: '2-digit' } : { day: 'numeric', month: 'short' }),
  });
  const slot = (PLOT.right - PLOT.left) / count;
  const texts = Array.from({ length: count }, (_, i) => format.format(from + i * stepMs));
  // Where the text changes a day begins; the first step may be the rest of the day before.
  const starts = texts.flatMap((text, i) => (isShort || (i > 0 ? text !== texts[i - 1] : stepMs >= DAY_MS) ? [i] : []));
  const every = Math.max(1, Math.ceil(starts.length / LABELS));
  return starts
    .filter((_, i) => i % every === 0)
    .map((i) => label(PLOT.left + slot * (i + 0.5), HEIGHT - 10, texts[i] as string, { size: 11, fill: DIMMED, anchor: 'middle' }));
}

function bars(series: readonly ChartSeries[], count: number, y: (value: number) => number): string[] {
  const slot = (PLOT.right - PLOT.left) / count;
  const width = Math.max(1, slot * 0.72);
  return Array.from({ length: count }, (_, i) => i).flatMap((i) => {
    let below = 0;
    return series.flatMap(({ values, colour }) => {
      const value = values[i] ?? 0;
      if (value <= 0) return [];
      const [from, to] = [y(below), y(below + value)];
      below += value;
      const x = PLOT.left + slot * i + (slot - width) / 2;
      return [
        `<rect x="${fixed(x)}" y="${fixed(to)}" width="${fixed(width)}" height="${fixed(Math.max(0.5, from - to))}" fill="${COLOURS[colour]}"/>`,
      ];
    });
  });
}

/** A line for each run of steps with a value: a gap stays a gap. */
function lines({ values, colour }: ChartSeries, count: number, y: (value: number) => number): string[] {
  const slot = (PLOT.right - PLOT.left) / count;
  const runs: string[][] = [[]];
  for (const [i, value] of values.entries()) {
    if (value === null) runs.push([]);
    else runs.at(-1)?.push(`${fixed(PLOT.left + slot * (i + 0.5))},${fixed(y(value))}`);
  }
  return runs
    .filter((run) => run.length > 0)
    .map((run) =>
      run.length === 1
        ? `<circle cx="${run[0]?.split(',')[0]}" cy="${run[0]?.split(',')[1]}" r="2.2" fill="${COLOURS[colour]}"/>`
        : `<polyline points="${run.join(' ')}" fill="none" stroke="${COLOURS[colour]}" stroke-width="2" stroke-linejoin="round"/>`,
    );
}
