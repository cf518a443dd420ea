/** A chart over time: line, bar, area, or shares of a whole; series that can be turned off, saved as picture or table. */
import { AreaChart, BarChart, ChartTooltip, LineChart } from '@mantine/charts';
import { ActionIcon, Group, Menu, SegmentedControl, Title, Tooltip } from '@mantine/core';
import type { DateNote } from '@orchard/contract';
import { IconPhotoDown, IconTableDown, IconUsers } from '@tabler/icons-react';
import { type ReactNode, useRef, useState } from 'react';
import { useDateNotes } from '../insight/dateNotes.js';
import { type Point, pointedAt, type Row, SO_FAR, withUnfinished } from './unfinished.js';

export type Series = { name: string; label: string; color: string /** Counts that have an axis of their own. */; axis?: 'right' };
/** A line across the chart, such as the limit of an objective. */
export type Limit = { value: number; label: string; color: string };
type Kind = 'line' | 'bar' | 'area' | 'share';
const KIND_WORDS: Record<Kind, string> = { line: 'Line', bar: 'Bar', area: 'Area', share: '100 %' };
type Props = {
  title: string;
  unit: string;
  /** Rows with a `label` of their own are not steps of time. */
  rows: Row[];
  series: Series[];
  stepMs: number;
  height?: number;
  kind?: 'line' | 'bar';
  stacked?: boolean;
  /** The series are parts of a whole: they can be shown as shares of it. */
  parts?: boolean;
  limits?: Limit[];
  /** In which days begin; by default that of the browser. */
  zone?: string;
  /** Opens what is behind a step: a click on it, or a choice in the menu. */
  onStep?: (at: string) => void;
  /** Charts of one name show the same step on hover; their rows are the same steps. */
  hoverGroup?: string;
  children?: ReactNode;
};

const DAY_MS = 86_400_000;
/** Counts and ratios need no unit at each tick. */
const COUNTS = new Set(['calls', 'deliveries', 'people', 'visits', 'events', 'ratio']);

/** The step decides how a time is written: hours within a day, days beyond. */
function labelOf(at: string, spanMs: number, stepMs: number, timeZone: string | undefined): string {
  const date = new Date(at);
  const day = date.toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone });
  if (stepMs >= DAY_MS) return day;
  const seconds = stepMs < 60_000 ? { second: '2-digit' as const } : {};
  const time = date.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone, ...seconds });
  return spanMs <= 1.5 * DAY_MS ? time : `${day} ${time}`;
}

const lighter = (color: string) => `color-mix(in srgb, ${color} 42%, transparent)`;
const KINDS = Object.keys(KIND_WORDS) as Kind[];
/** Of the axis: the tooltip tells the values themselves. */
const shareFormatter = (value: number) => `${Math.round(value * 100)} %`;
const valueFormatter = (value: number) => value.toLocaleString('en-GB', { maximumFractionDigits: 1 });
type TooltipContent = { label?: unknown; payload?: readonly Point[] };

export function ChartPanel({
  title,
  unit,
  rows,
  series,
  stepMs,
  height = 220,
  kind: firstKind = 'line',
  stacked,
  parts,
  limits = [],
  zone,
  onStep,
  hoverGroup,
}: Props) {
  const [kind, setKind] = useState<Kind>(firstKind);
  const [off, setOff] = useState<ReadonlySet<string>>(new Set());
  const frame = useRef<HTMLDivElement>(null);
  const notes = useDateNotes();
  const span = rows.length * stepMs;
  const isTime = !rows.some((row) => 'label' in row);
  const labelled = isTime ? rows.map((row) => ({ ...row, label: labelOf(row.at, span, stepMs, zone) })) : rows;
  const shown = series.filter(({ name }) => !off.has(name));
  const data = isTime ? withUnfinished(labelled, shown, stepMs, kind === 'bar' ? 'bar' : 'line') : labelled;
  const toggle = (name: string) =>
    setOff((before) => {
      const after = new Set(before);
      if (!after.delete(name)) after.add(name);
      return after;
    });
  const suffix = COUNTS.has(unit) ? '' : ` ${unit}`;
  // What has an axis of its own is a count.
  const counts = new Set(shown.flatMap(({ name, axis }) => (axis ? [name, name + SO_FAR] : [])));
  const withUnits = (points: Point[]) => points.map((point) => ({ ...point, unit: counts.has(String(point.name)) ? '' : suffix }));
  const drawn = shown.flatMap(({ name, label, color, axis }) => [
    { name, label, color, stackId: stacked ? 'all' : name, strokeDasharray: '1 0', ...(axis ? { yAxisId: axis } : {}) },
    {
      name: name + SO_FAR,
      label: `${label}, so far`,
      color: lighter(color),
      stackId: stacked ? 'all' : name,
      strokeDasharray: '3 4',
      ...(axis ? { yAxisId: axis } : {}),
    },
  ]);
  const common = {
    h: height,
    data,
    dataKey: 'label',
    series: drawn,
    tickLine: 'none' as const,
    gridAxis: 'x' as const,
    withLegend: false,
    ...(shown.some(({ axis }) => axis) ? { withRightYAxis: true, rightYAxisProps: { width: 64, unit: '' } } : {}),
    referenceLines: [
      ...limits.map(({ value, label, color }) => ({ y: value, label, color, strokeDasharray: '6 4', ifOverflow: 'extendDomain' as const })),
      ...(isTime ? noteLines(notes, labelled, stepMs) : []),
    ],
    xAxisProps: { minTickGap: 48 },
    yAxisProps: { width: 72 },
    unit: suffix,
    tooltipAnimationDuration: 0,
    valueFormatter,
    tooltipProps: {
      content: ({ label, payload }: TooltipContent) => (
        <ChartTooltip
          label={String(label)}
          payload={withUnits(pointedAt(payload)) as never}
          series={drawn}
          valueFormatter={valueFormatter}
        />
      ),
    },
  };
  const together = hoverGroup ? { syncId: hoverGroup } : {};
  const clickable = onStep
    ? {
        style: { cursor: 'pointer' },
        onClick: ({ activeIndex }: { activeIndex?: number | string | null | undefined }) => {
          const row = activeIndex === null || activeIndex === undefined ? undefined : rows[Number(activeIndex)];
          if (row) onStep(row.at);
        },
      }
    : {};
  return (
    <section className="panel" aria-label={title}>
      <Group justify="space-between" mb={6}>
        <Title order={2}>{title}</Title>
        <Group gap={6}>
          <SegmentedControl
            size="xs"
            aria-label={`Chart type of ${title}`}
            value={kind}
            onChange={(value) => setKind(value as Kind)}
            data={KINDS.filter((one) => one !== 'share' || parts).map((value) => ({ value, label: KIND_WORDS[value] }))}
          />
          {onStep && <StepMenu title={title} rows={labelled} onStep={onStep} />}
          <Tooltip label="Save as PNG">
            <ActionIcon variant="subtle" aria-label={`Save ${title} as PNG`} onClick={() => savePicture(frame.current, title)}>
              <IconPhotoDown size={16} />
            </ActionIcon>
          </Tooltip>
          <Tooltip label="Save as CSV">
            <ActionIcon variant="subtle" aria-label={`Save ${title} as CSV`} onClick={() => saveTable(rows, series, title)}>
              <IconTableDown size={16} />
            </ActionIcon>
          </Tooltip>
        </Group>
      </Group>
      <div className="legend">
        {series.map(({ name, label, color }) => (
          <button key={name} type="button" aria-pressed={!off.has(name)} onClick={() => toggle(name)}>
            <i style={{ '--series': color } as never} />
            {label}
          </button>
        ))}
      </div>
      <div ref={frame} role="img" aria-label={`${title}, ${series.map(({ label }) => label).join(', ')}, in ${unit}`}>
        {kind === 'area' || kind === 'share' ? (
          <AreaChart
            {...common}
            {...(kind === 'share' ? { unit: '', valueFormatter: shareFormatter } : {})}
            type={kind === 'share' ? 'percent' : stacked || parts ? 'stacked' : 'default'}
            withDots={false}
            strokeWidth={1.5}
            curveType="linear"
            connectNulls={false}
            areaProps={{ isAnimationActive: false }}
            areaChartProps={{ ...together, ...clickable }}
          />
        ) : kind === 'line' ? (
          <LineChart
            {...common}
            withDots={false}
            strokeWidth={1.8}
            curveType="linear"
            connectNulls={false}
            lineProps={{ isAnimationActive: false }}
            lineChartProps={{ ...together, ...clickable }}
          />
        ) : (
          <BarChart
            {...common}
            type={stacked ? 'stacked' : 'default'}
            barProps={{ isAnimationActive: false }}
            barChartProps={{ ...together, ...clickable }}
          />
        )}
      </div>
    </section>
  );
}

/** The steps of a chart by keyboard, latest first. */
function StepMenu({ title, rows, onStep }: { title: string; rows: Row[]; onStep: (at: string) => void }) {
  return (
    <Menu position="bottom-end">
      <Menu.Target>
        <Tooltip label="Who is behind a step">
          <ActionIcon variant="subtle" aria-label={`Who is behind a step of ${title}`}>
            <IconUsers size={16} />
          </ActionIcon>
        </Tooltip>
      </Menu.Target>
      <Menu.Dropdown mah={280} style={{ overflowY: 'auto' }}>
        {[...rows].reverse().map(({ at, label }) => (
          <Menu.Item key={at} onClick={() => onStep(at)}>
            {label}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}

/** A note stands at the step that it falls into. */
function noteLines(notes: readonly DateNote[], rows: readonly Row[], stepMs: number) {
  return notes.flatMap(({ at, text }) => {
    const time = Date.parse(at);
    const row = rows.find((one) => time >= Date.parse(one.at) && time < Date.parse(one.at) + stepMs);
    return row
      ? [
          {
            x: String(row.label),
            label: text,
            labelPosition: 'insideTopLeft' as const,
            color: 'var(--mantine-color-dimmed)',
            strokeDasharray: '2 3',
          },
        ]
      : [];
  });
}

function save(content: Blob, name: string): void {
  const link = Object.assign(document.createElement('a'), { href: URL.createObjectURL(content), download: name });
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
const fileName = (title: string) => title.toLowerCase().replace(/[^a-z0-9]+/g, '-');

function saveTable(rows: Row[], series: Series[], title: string): void {
  const lines = [
    ['at', ...series.map(({ name }) => name)].join(','),
    ...rows.map((row) => [row.label ?? row.at, ...series.map(({ name }) => row[name] ?? '')].join(',')),
  ];
  save(new Blob([`${lines.join('\n')}\n`], { type: 'text/csv' }), `${fileName(title)}.csv`);
}

/** Draws the chart's SVG, with the colours it has on the page, onto a canvas. */
function savePicture(frame: HTMLElement | null, title: string): void {
  const svg = frame?.querySelector('svg.recharts-surface');
  if (!svg) return;
  const { width, height } = svg.getBoundingClientRect();
  const copy = svg.cloneNode(true) as SVGElement;
  const originals = svg.querySelectorAll<SVGElement>('*');
  copy.querySelectorAll<SVGElement>('*').forEach((element, i) => {
    const style = getComputedStyle(originals[i] as SVGElement);
    for (const property of ['fill', 'stroke', 'stroke-width', 'font-size', 'font-family', 'opacity'])
      element.style.setProperty(property, style.getPropertyValue(property));
  });
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg');
  const image = new Image();
  image.onload = () => {
    const canvas = Object.assign(document.createElement('canvas'), { width: width * 2, height: height * 2 });
    const context = canvas.getContext('2d') as CanvasRenderingContext2D;
    context.fillStyle = getComputedStyle(document.body).backgroundColor;
    context.fillRect(0, 0, canvas.width, canvas.height);
    context.drawImage(image, 0, 0, canvas.width, canvas.height);
    canvas.toBlob((blob) => blob && save(blob, `${fileName(title)}.png`));
  };
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(new XMLSerializer().serializeToString(copy))}`;
}
