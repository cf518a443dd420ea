/** Paths as streams: from step to step, each as wide as the visits that took it. */
import type { PathNode } from '@orchard/contract';
import { sankey, sankeyJustify, sankeyLinkHorizontal } from 'd3-sankey';
import { count } from '../parts/format.js';
import { SERIES } from '../theme.js';

const WIDTH = 1000;
const ROW = 26;
const NAME_WIDTH = 150;

type Place = { key: string; event: string | null };
type Stream = { source: number; target: number; value: number };

type Props = { event: string; next: PathNode[]; isBefore: boolean; onChoose: (event: string) => void };

export function Flow({ event, next, isBefore, onChoose }: Props) {
  const { places, streams } = flowOf(event, next);
  const mostInStep = Math.max(1, ...[...countBy(places.map(({ key }) => key.split(' ')[0] as string)).values()]);
  const height = Math.max(180, mostInStep * ROW * 1.6);
  const { nodes, links } = sankey<Place, object>()
    .nodeWidth(10)
    .nodePadding(16)
    .nodeAlign(sankeyJustify)
    .extent([
      [isBefore ? NAME_WIDTH : 1, 8],
      [isBefore ? WIDTH - 1 : WIDTH - NAME_WIDTH, height - 8],
    ])({ nodes: places.map((place) => ({ ...place })), links: streams.map((stream) => ({ ...stream })) });
  // Before the event, time still runs from left to right.
  const mirrored = (x: number) => (isBefore ? WIDTH - x : x);
  const path = sankeyLinkHorizontal();
  return (
    <svg viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label="Paths as streams" className="flow">
      <g transform={isBefore ? `translate(${WIDTH},0) scale(-1,1)` : undefined}>
        {links.map((link) => {
          const [source, target] = [link.source, link.target] as unknown as [Place, Place];
          return (
            <path
              key={`${source.key} ${target.key}`}
              d={path(link as never) ?? ''}
              strokeWidth={Math.max(1, link.width ?? 1)}
              className="stream"
            >
              <title>{`${wordsOf(source, isBefore)} → ${wordsOf(target, isBefore)}: ${count(link.value)}`}</title>
            </path>
          );
        })}
      </g>
      {nodes.map((node) => {
        const { x0 = 0, x1 = 0, y0 = 0, y1 = 0 } = node;
        const isOpen = Boolean(node.event);
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the tree, and the list of events above, do the same by keyboard
          <g
            key={node.key}
            onClick={isOpen ? () => onChoose(node.event as string) : undefined}
            style={isOpen ? { cursor: 'pointer' } : undefined}
          >
            <rect
              x={Math.min(mirrored(x0), mirrored(x1))}
              y={y0}
              width={x1 - x0}
              height={Math.max(1, y1 - y0)}
              fill={node.event === null ? SERIES.slate : node.event === '' ? 'var(--rule)' : SERIES.viridian}
            />
            <text x={isBefore ? mirrored(x1) - 6 : x1 + 6} y={(y0 + y1) / 2} dy="0.35em" textAnchor={isBefore ? 'end' : 'start'}>
              {wordsOf(node, isBefore)} {count(node.value ?? 0)}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

const wordsOf = ({ event }: Place, isBefore: boolean): string =>
  event === null ? 'rarer ones' : event === '' ? (isBefore ? 'began' : 'ended') : event;

function countBy(values: readonly string[]): Map<string, number> {
  const counts = new Map<string, number>();
  for (const value of values) counts.set(value, (counts.get(value) ?? 0) + 1);
  return counts;
}

/** The tree with the same event of one step put together: a step is how far it is from the event that was asked for. */
function flowOf(event: string, next: readonly PathNode[]): { places: Place[]; streams: Stream[] } {
  const places: Place[] = [{ key: '0 ', event }];
  const at = new Map([['0 ', 0]]);
  const streams = new Map<string, Stream>();
  const walk = (source: number, nodes: readonly PathNode[], step: number): void => {
    for (const node of nodes) {
      const key = `${step} ${node.event === null ? 'rare' : node.event === '' ? 'end' : `event ${node.event}`}`;
      let target = at.get(key);
      if (target === undefined) {
        at.set(key, (target = places.length));
        places.push({ key, event: node.event });
      }
      const name = `${source} ${target}`;
      const stream = streams.get(name);
      if (stream) stream.value += node.count;
      else streams.set(name, { source, target, value: node.count });
      walk(target, node.next, step + 1);
    }
  };
  walk(0, next, 1);
  return { places, streams: [...streams.values()] };
}
