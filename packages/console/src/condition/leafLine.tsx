/** Condition over time, drawn as a leaf that grows and thins: broad while thriving, half as broad while stressed, a twig while failing. */
import type { EnvironmentCondition } from '@orchard/core';
import { type MouseEvent, useCallback, useMemo } from 'react';

const [WIDTH, HEIGHT] = [1000, 36];
const MIDDLE = HEIGHT / 2;
const HALF: Record<EnvironmentCondition, number> = { thriving: 16, stressed: 9, failing: 2.5, dormant: 4.5 };
/** How long the leaf takes to grow or thin, in the units of the drawing. */
const EASE = 7;

export type Stretch = { from: number; until: number; condition: EnvironmentCondition };

/** Stretches of one condition in a period, from its changes. */
export function stretchesOf(
  before: EnvironmentCondition,
  changes: readonly { at: string; condition: EnvironmentCondition }[],
  from: number,
  until: number,
): Stretch[] {
  const starts = [{ at: from, condition: before }, ...changes.map(({ at, condition }) => ({ at: Date.parse(at), condition }))];
  return starts
    .map(({ at, condition }, i) => ({ from: Math.max(from, at), until: starts[i + 1]?.at ?? until, condition }))
    .filter((one) => one.until > one.from);
}

export function LeafLine({
  stretches,
  from,
  until,
  at,
  onPick,
  label,
}: {
  stretches: readonly Stretch[];
  from: number;
  until: number;
  /** A time to mark. */
  at?: number | null;
  onPick?: (at: number) => void;
  label: string;
}) {
  const x = useCallback((time: number) => ((time - from) / (until - from)) * WIDTH, [from, until]);
  const paths = useMemo(() => stretches.map((one, i) => ({ ...one, d: outline(stretches, i, x) })), [stretches, x]);
  const pick = (event: MouseEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    onPick?.(Math.round(from + ((event.clientX - box.left) / box.width) * (until - from)));
  };
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the time can be chosen by the field above, too
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
      className="leaf-line"
      role="img"
      aria-label={`${label}: ${inWords(stretches)}`}
      onClick={pick}
      data-pick={onPick ? true : undefined}
    >
      <line x1={0} x2={WIDTH} y1={MIDDLE} y2={MIDDLE} className="stem" />
      {paths.map(({ d, condition, from: start }) => (
        <path key={start} d={d} data-condition={condition} className="blade" />
      ))}
      {at && at >= from && at <= until && <line x1={x(at)} x2={x(at)} y1={0} y2={HEIGHT} className="mark" />}
    </svg>
  );
}

/** One stretch as a closed path, as broad at its ends as half-way to its neighbours. */
function outline(stretches: readonly Stretch[], i: number, x: (time: number) => number): string {
  const { from, until, condition } = stretches[i] as Stretch;
  const half = HALF[condition];
  const shared = (other: Stretch | undefined) => (other ? (half + HALF[other.condition]) / 2 : half);
  const [start, end] = [x(from), x(until)];
  const ease = Math.min(EASE, (end - start) / 2);
  const [left, right] = [shared(stretches[i - 1]), shared(stretches[i + 1])];
  const edge = (side: 1 | -1) => {
    const y = (width: number) => (MIDDLE + side * width).toFixed(1);
    const [inner, outer] = [(start + ease).toFixed(1), (end - ease).toFixed(1)];
    const points = [
      `${start.toFixed(1)} ${y(left)}`,
      `C${(start + ease / 2).toFixed(1)} ${y(left)} ${(start + ease / 2).toFixed(1)} ${y(half)} ${inner} ${y(half)}`,
      `L${outer} ${y(half)}`,
      `C${(end - ease / 2).toFixed(1)} ${y(half)} ${(end - ease / 2).toFixed(1)} ${y(right)} ${end.toFixed(1)} ${y(right)}`,
    ];
    return points.join(' ');
  };
  const back = [
    `L${end.toFixed(1)} ${(MIDDLE + right).toFixed(1)}`,
    `C${(end - ease / 2).toFixed(1)} ${(MIDDLE + right).toFixed(1)} ${(end - ease / 2).toFixed(1)} ${(MIDDLE + half).toFixed(1)} ${(end - ease).toFixed(1)} ${(MIDDLE + half).toFixed(1)}`,
    `L${(start + ease).toFixed(1)} ${(MIDDLE + half).toFixed(1)}`,
    `C${(start + ease / 2).toFixed(1)} ${(MIDDLE + half).toFixed(1)} ${(start + ease / 2).toFixed(1)} ${(MIDDLE + left).toFixed(1)} ${start.toFixed(1)} ${(MIDDLE + left).toFixed(1)}Z`,
  ];
  return `M${edge(-1)} ${back.join(' ')}`;
}

/** Such as `thriving 97 %, stressed 3 %`. */
export function inWords(stretches: readonly Stretch[]): string {
  const sums = new Map<EnvironmentCondition, number>();
  let all = 0;
  for (const { from, until, condition } of stretches) {
    sums.set(condition, (sums.get(condition) ?? 0) + until - from);
    all += until - from;
  }
  const shares = [...sums].filter(([, ms]) => ms > 0).sort(([, a], [, b]) => b - a);
  return shares.map(([condition, ms]) => `${condition} ${share(ms / all)}`).join(', ');
}
const share = (part: number) => (part < 0.01 ? 'under 1 %' : `${Math.round(part * 100)} %`);
