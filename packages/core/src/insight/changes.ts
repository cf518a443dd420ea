/** What changed most against the period before, in a sentence each. */
import { type Figure, figureWords } from '../reports/document.js';

export type Watched = Figure & {
  /** Such as `New people`. */
  label: string;
  /** Counts below this, now and before, say nothing. */
  least?: number;
};
export type Change = { label: string; text: string; relative: number; isWorse: boolean };

const NOTABLE = 0.08;

/** The largest changes first; those of counts too small to say anything are left out. */
export function largestChanges(figures: readonly Watched[], most = 4): Change[] {
  return figures
    .flatMap((figure): Change[] => {
      const { label, value, before, unit, worse, least = 0 } = figure;
      if (value === null || before === null || before === undefined || before === 0) return [];
      if (unit === 'count' && Math.max(value, before) < least) return [];
      const relative = (value - before) / before;
      if (Math.abs(relative) < NOTABLE) return [];
      const direction = relative > 0 ? 'rose' : 'fell';
      const percent = Math.round(Math.abs(relative) * 100);
      return [
        {
          label,
          relative,
          isWorse: worse === (relative > 0 ? 'higher' : 'lower'),
          text: `${label} ${direction} by ${percent.toLocaleString('en-GB')} %, from ${figureWords(unit, before)} to ${figureWords(unit, value)}.`,
        },
      ];
    })
    .sort((a, b) => Math.abs(b.relative) - Math.abs(a.relative))
    .slice(0, most);
}
