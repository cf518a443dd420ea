/** Who uses what: a drawing of streams, and the same as a list. */
import { Text, Title } from '@mantine/core';
import { operations, type Use } from '@orchard/contract';
import { sankey, sankeyLinkHorizontal } from 'd3-sankey';
import { OFTEN, useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';

const whoWords = ({ from: { kind, name, version } }: Use): string =>
  kind === 'function' ? `${name}${version ? `, version ${version}` : ''}` : `${name}${version ? ` ${version}` : ''}`;

export function UseTable({ items }: { items: Use[] }) {
  return (
    <div className="listing">
      <table>
        <TableHead columns={['Who', 'Uses', { right: 'Times' }, 'Last']} />
        <tbody>
          {items.map((use) => (
            <tr key={`${use.from.kind} ${use.from.name} ${use.from.version} ${use.to.kind} ${use.to.name}`}>
              <td>
                <span className="hint">{use.from.kind}</span> {whoWords(use)}
              </td>
              <td>
                <span className="hint">{use.to.kind}</span> {use.to.name}
              </td>
              <td className="right mono">{count(use.count)}</td>
              <td>
                <Moment at={use.lastAt} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What breaks if this changes. */
export function UsesOf({ of }: { of: string }) {
  const { params } = useEnvironment();
  const uses = useCall(operations.upstreams.uses, { params, query: { of, hours: 168 } }, OFTEN);
  return (
    <section>
      <Title order={3}>Used by, in seven days</Title>
      <Loaded of={uses}>{({ items }) => (items.length === 0 ? <Text c="dimmed">Nobody.</Text> : <UseTable items={items} />)}</Loaded>
    </section>
  );
}

type Place = { key: string; label: string; kind: string };
const WIDTH = 1000;
const NAMES = 190;
const FILLS: Record<string, string> = {
  client: SERIES.slate,
  function: SERIES.viridian,
  server: SERIES.slate,
  collection: SERIES.honey,
  upstream: SERIES.plum,
};

/** Clients on the left, what they use in the middle, and what functions use in turn on the right. */
export function UseDrawing({ items, onChoose }: { items: Use[]; onChoose: (of: string) => void }) {
  const places = new Map<string, Place>();
  const place = (kind: string, name: string) => {
    const key = `${kind}:${name}`;
    if (!places.has(key)) places.set(key, { key, label: name, kind });
    return [...places.keys()].indexOf(key);
  };
  const sums = new Map<string, { source: number; target: number; value: number }>();
  for (const { from, to, count: times } of items) {
    const [source, target] = [place(from.kind, from.name), place(to.kind, to.name)];
    const key = `${source} ${target}`;
    // Wide ranges of numbers in one picture: the square root keeps the rare ones visible.
    sums.set(key, { source, target, value: (sums.get(key)?.value ?? 0) + Math.sqrt(times) });
  }
  const height = Math.max(220, places.size * 26);
  const { nodes, links } = sankey<Place, object>()
    .nodeWidth(10)
    .nodePadding(14)
    .extent([
      [1, 8],
      [WIDTH - NAMES, height - 8],
    ])({ nodes: [...places.values()].map((one) => ({ ...one })), links: [...sums.values()] });
  const path = sankeyLinkHorizontal();
  return (
    <svg viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label="Who uses what" className="flow">
      {links.map((link) => {
        const [source, target] = [link.source, link.target] as unknown as [Place, Place];
        return (
          <path
            key={`${source.key} ${target.key}`}
            d={path(link as never) ?? ''}
            strokeWidth={Math.max(1, link.width ?? 1)}
            className="stream"
          >
            <title>{`${source.label} uses ${target.label}`}</title>
          </path>
        );
      })}
      {nodes.map(({ key, label, kind, x0 = 0, x1 = 0, y0 = 0, y1 = 0 }) => (
        // biome-ignore lint/a11y/noStaticElementInteractions: the list below says the same, and its filter chooses by keyboard
        <g
          key={key}
          onClick={kind === 'client' ? undefined : () => onChoose(key)}
          style={kind === 'client' ? undefined : { cursor: 'pointer' }}
        >
          <rect x={x0} y={y0} width={x1 - x0} height={Math.max(1, y1 - y0)} fill={FILLS[kind] ?? SERIES.viridian} />
          <text x={x1 + 6} y={(y0 + y1) / 2} dy="0.35em">
            {label} <tspan className="hint">{kind}</tspan>
          </text>
        </g>
      ))}
    </svg>
  );
}
