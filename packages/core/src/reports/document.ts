/** A report as data: the same blocks become a page, a mail, tables of numbers and pictures. */
import { momentWords } from './digestTimes.js';

export const FIGURE_UNITS = ['count', 'ms', 'share'] as const;
export type FigureUnit = (typeof FIGURE_UNITS)[number];

export type Figure = {
  label: string;
  value: number | null;
  unit: FigureUnit;
  /** In the period before, of the same length; undefined where it is not compared. */
  before?: number | null | undefined;
  /** Which direction is bad news; null for neither. */
  worse: 'higher' | 'lower' | null;
};

export const SERIES_COLOURS = ['viridian', 'persimmon', 'plum', 'honey', 'slate'] as const;
export type SeriesColour = (typeof SERIES_COLOURS)[number];
export type ChartSeries = { label: string; colour: SeriesColour; values: (number | null)[] };

export type Cell = string | number | null;
export const CELL_TYPES = ['text', 'number', 'time'] as const;
/** Times are RFC 3339. */
export type TableColumn = { name: string; label: string; type: (typeof CELL_TYPES)[number] };

export type Block =
  | { kind: 'figures'; title: string; items: Figure[] }
  | {
      kind: 'chart';
      title: string;
      unit: string;
      stepMs: number;
      draw: 'line' | 'bar';
      /** Start of the first step, milliseconds since 1970. */
      from: number;
      series: ChartSeries[];
    }
  | { kind: 'table'; title: string; columns: TableColumn[]; rows: Cell[][] /** Whether there are rows beyond these. */; isCut: boolean }
  | { kind: 'care'; items: CareItem[] };

/** Something that needs care. */
export type CareItem = {
  /** The most serious first. */
  weight: number;
  text: string;
  /** A path of the console. */
  link: string;
};

export type ReportDocument = {
  title: string;
  app: string;
  environment: string;
  from: number;
  until: number;
  /** IANA. */
  zone: string;
  madeAt: number;
  blocks: Block[];
};

const MINUS = '−';
const plain = (value: number, digits: number): string => value.toLocaleString('en-GB', { maximumFractionDigits: digits });

/** A figure with its unit: `1,204`, `36 ms`, `1.4 %`; an en dash for none. */
export function figureWords(unit: FigureUnit, value: number | null): string {
  if (value === null) return '–';
  if (unit === 'share') return `${plain(value * 100, value < 0.1 ? 2 : 1)} %`;
  if (unit === 'count') return plain(value, 1);
  if (value >= 10_000) return `${plain(value / 1000, 1)} s`;
  return `${plain(value, value < 10 ? 1 : 0)} ms`;
}

export type ChangeOfFigure = { text: string; isWorse: boolean; isBetter: boolean };

/** Changes below this are not called better or worse. */
const NOTABLE = 0.05;

/**
 * How a figure moved: shares in percentage points, others in percent of what they were.
 * @returns null where it is not compared
 */
export function changeOf({ value, unit, before, worse }: Figure): ChangeOfFigure | null {
  if (before === undefined) return null;
  if (value === null || before === null)
    return { text: before === null ? 'nothing to compare with' : 'none now', isWorse: false, isBetter: false };
  const by = value - before;
  const sign = by < 0 ? MINUS : '+';
  const relative = before === 0 ? (by === 0 ? 0 : Number.POSITIVE_INFINITY) : by / Math.abs(before);
  const isNotable = Math.abs(relative) >= NOTABLE;
  const isUp = by > 0;
  const judged = {
    isWorse: isNotable && worse === (isUp ? 'higher' : 'lower'),
    isBetter: isNotable && worse === (isUp ? 'lower' : 'higher'),
  };
  if (Math.abs(unit === 'share' ? by * 100 : relative * 100) < 0.005) return { text: 'unchanged', isWorse: false, isBetter: false };
  if (unit === 'share') return { text: `${sign}${plain(Math.abs(by) * 100, 2)} points`, ...judged };
  if (before === 0) return { text: 'none before', ...judged };
  return { text: `${sign}${plain(Math.abs(relative) * 100, Math.abs(relative) < 0.1 ? 1 : 0)} %`, ...judged };
}

/** A cell as it is read, with times in a zone. */
export function cellWords(cell: Cell, { type }: Pick<TableColumn, 'type'>, zone: string): string {
  if (cell === null) return '–';
  if (typeof cell === 'number') return cell.toLocaleString('en-GB', { maximumFractionDigits: 2 });
  return type === 'time' ? momentWords(Date.parse(cell), zone) : cell;
}

/** The care items of several blocks, the most serious first. */
export const careOf = (blocks: readonly Block[]): CareItem[] =>
  blocks.flatMap((block) => (block.kind === 'care' ? block.items : [])).sort((a, b) => b.weight - a.weight);

/** The tables of a report with their headings, for files of comma-separated values. */
export function tablesOf(blocks: readonly Block[]): { title: string; rows: Cell[][] }[] {
  return blocks.flatMap((block) => {
    if (block.kind === 'table') return [{ title: block.title, rows: [block.columns.map(({ name }) => name), ...block.rows] }];
    if (block.kind === 'figures')
      return [
        {
          title: block.title,
          rows: [
            ['figure', 'value', 'unit', 'before'],
            ...block.items.map(({ label, value, unit, before }) => [label, value, unit, before ?? null]),
          ],
        },
      ];
    if (block.kind === 'chart')
      return [
        {
          title: block.title,
          rows: [
            ['at', ...block.series.map(({ label }) => label)],
            ...(block.series[0]?.values ?? []).map((_, i) => [
              new Date(block.from + i * block.stepMs).toISOString(),
              ...block.series.map(({ values }) => values[i] ?? null),
            ]),
          ],
        },
      ];
    return [];
  });
}
