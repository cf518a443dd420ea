/** A setup difference in words: for a terminal, and as Markdown for the discussion of a change. */
import type { Json } from '../json.js';
import { ONE, type SetupChange, type SetupPoint } from './difference.js';

/** What applying a change does, besides what its documents say. */
export type SetupEffect = {
  text: string;
  /** Whether data is lost by it. */
  loses: boolean;
  /** How long writers may wait, in milliseconds; 0 where nobody does. */
  lockMs: number;
  /** Records that are affected. */
  records?: number | undefined;
  examples?: { id: string; value: Json; problem: string }[] | undefined;
};
export type SetupUse = { by: string; calls: number; lastAt: string };
export type JudgedChange = SetupChange & {
  effects: SetupEffect[];
  /** Clients and functions that were seen to use what is dropped or renamed. */
  uses: SetupUse[];
  /** Why it cannot be applied; null where it can. */
  blocked: string | null;
  hints: string[];
};
export type SetupDifference = {
  /** Digest of the setup that was compared with. */
  base: string;
  changes: JudgedChange[];
  /** What happens, in this order. */
  steps: string[];
  loses: boolean;
};

const SIGNS = { make: '+', change: '~', drop: '-' } as const;
/** Longest value that stands in a line. */
const LONGEST = 60;

/** `collections/huts`; settings go by their kind alone. */
export const partName = ({ kind, name }: Pick<SetupChange, 'kind' | 'name'>): string => (name === ONE ? kind : `${kind}/${name}`);

/** A value in a line: short ones as JSON, long ones by their size. */
export function shortValue(value: Json | undefined): string {
  if (value === undefined) return 'nothing';
  const text = JSON.stringify(value);
  if (text.length <= LONGEST) return text;
  if (typeof value === 'string') return `a text of ${value.split('\n').length} lines`;
  return Array.isArray(value) ? `a list of ${value.length}` : `an object of ${Object.keys(value as object).length} members`;
}

export function pointWords({ path, ...point }: SetupPoint): string {
  const at = path.join('.');
  if (!('before' in point)) return `${at}: added, ${shortValue(point.after)}`;
  if (!('after' in point)) return `${at}: dropped, ${shortValue(point.before)}`;
  return `${at}: ${shortValue(point.before)} → ${shortValue(point.after)}`;
}

/** The lines below a change. */
function detailsOf({ points, renames, effects, uses, blocked, hints }: JudgedChange): string[] {
  return [
    ...Object.entries(renames).map(([field, was]) => `${was} is called ${field} from now on`),
    ...points.map(pointWords),
    ...effects.flatMap(({ text, loses, examples = [] }) => [
      `${loses ? '! ' : ''}${text}`,
      ...examples.map(({ id, problem }) => `  ${id}: ${problem}`),
    ]),
    ...uses.map(({ by, calls, lastAt }) => `used by ${by}: ${calls} calls, last ${lastAt}`),
    ...hints,
    ...(blocked ? [`cannot be applied: ${blocked}`] : []),
  ];
}

export function differenceText({ changes }: Pick<SetupDifference, 'changes'>): string {
  if (changes.length === 0) return 'Nothing differs.\n';
  const lines = changes.flatMap((change) => [
    `${SIGNS[change.action]} ${partName(change)}`,
    ...detailsOf(change).map((line) => `    ${line}`),
  ]);
  return `${[...lines, '', countsOf(changes)].join('\n')}\n`;
}

export function differenceMarkdown({ changes, steps, loses }: SetupDifference): string {
  if (changes.length === 0) return 'Nothing differs.\n';
  const code = (text: string) => `\`${text.replaceAll('`', "'")}\``;
  const lines = changes.flatMap((change) => [
    `- **${change.action}** ${code(partName(change))}`,
    ...detailsOf(change).map((line) => `  - ${line.trimStart().startsWith('! ') ? `**${line.trim().slice(2)}**` : escaped(line.trim())}`),
  ]);
  return [
    '## Setup difference',
    '',
    `${countsOf(changes)}${loses ? ' **Data would be lost.**' : ''}`,
    '',
    ...lines,
    '',
    '### Steps',
    '',
    ...steps.map((step, i) => `${i + 1}. ${escaped(step)}`),
    '',
  ].join('\n');
}

const escaped = (text: string): string => text.replace(/[*_<>[\]]/g, (sign) => `\\${sign}`);

/** Such as `2 to make, 1 to change.` */
export function countsOf(changes: readonly Pick<SetupChange, 'action'>[]): string {
  const count = (action: SetupChange['action']) => changes.filter((change) => change.action === action).length;
  const parts = (['make', 'change', 'drop'] as const).flatMap((action) => (count(action) > 0 ? [`${count(action)} to ${action}`] : []));
  return parts.length > 0 ? `${parts.join(', ')}.` : 'Nothing differs.';
}
