/** The last five minutes in ten-second cells: calls, of them refused and failed, and p95. */
import type { EnvironmentConditionDocument } from '@orchard/contract';
import { count, counted, milliseconds } from '../parts/format.js';

const CELLS = 30;
const [CELL, HEIGHT, FOOT] = [10, 34, 8];

type Cells = Pick<EnvironmentConditionDocument, 'recent' | 'stepMs'>;

export function Strip({ of: { recent, stepMs }, until, label }: { of: Cells; until: number; label: string }) {
  const end = Math.floor(until / stepMs) * stepMs;
  const most = Math.max(1, ...recent.map(({ calls }) => calls));
  // Few calls must be seen beside many.
  const height = (calls: number) => (calls === 0 ? 0 : Math.max(2, Math.sqrt(calls / most) * (HEIGHT - 4)));
  const slowest = Math.max(1, ...recent.map(({ p95Ms }) => p95Ms ?? 0));
  const places = recent.flatMap((cell) => {
    const slot = CELLS - 1 - Math.round((end - Date.parse(cell.at)) / stepMs);
    return slot < 0 || slot >= CELLS ? [] : [{ ...cell, x: slot * CELL }];
  });
  return (
    <svg
      viewBox={`0 0 ${CELLS * CELL} ${HEIGHT + FOOT}`}
      className="strip"
      role="img"
      aria-label={`${label}: ${summary(recent)}`}
      preserveAspectRatio="none"
    >
      <line x1={0} x2={CELLS * CELL} y1={HEIGHT} y2={HEIGHT} className="floor" />
      {places.map(({ at, x, calls, failed, refused, p95Ms }) => {
        const all = height(calls);
        const bad = (number: number) => (number === 0 ? 0 : Math.max(2, (number / calls) * all));
        return (
          <g key={at}>
            <title>{`${new Date(at).toLocaleTimeString()}: ${counted(calls, 'call')}, ${failed} failed, ${refused} refused, p95 ${milliseconds(p95Ms)}`}</title>
            <rect x={x + 1} y={0} width={CELL - 2} height={HEIGHT + FOOT} fill="transparent" />
            <rect x={x + 1} y={HEIGHT - all} width={CELL - 2} height={all} className="answered" />
            <rect x={x + 1} y={HEIGHT - bad(refused) - bad(failed)} width={CELL - 2} height={bad(refused)} className="refused" />
            <rect x={x + 1} y={HEIGHT - bad(failed)} width={CELL - 2} height={bad(failed)} className="failed" />
            {p95Ms !== null && (
              <rect
                x={x + 1}
                y={HEIGHT + 2}
                width={CELL - 2}
                height={FOOT - 3}
                className="latency"
                opacity={0.15 + 0.85 * (p95Ms / slowest)}
              />
            )}
          </g>
        );
      })}
    </svg>
  );
}

export function summary(recent: Cells['recent']): string {
  const sum = (name: 'calls' | 'failed' | 'refused') => recent.reduce((all, cell) => all + cell[name], 0);
  if (recent.length === 0) return 'no calls';
  const slowest = Math.max(...recent.map(({ p95Ms }) => p95Ms ?? 0));
  return `${counted(sum('calls'), 'call')}, ${count(sum('failed'))} failed, ${count(sum('refused'))} refused, p95 up to ${milliseconds(slowest)}`;
}
