/** Places by the thousand: counted by the cells of a grid, and told apart where a few are left. */
import { operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { GeoProjection } from 'd3-geo';
import { useCall } from '../api.js';
import { withCondition } from '../parts/filterBar.js';
import { count } from '../parts/format.js';
import { Dot, HEIGHT, NAMED, type Position, positionOf, WIDTH } from './mapMarks.js';

export type Many = { at: { app: string; environment: string; collection: string }; filter: string };
/** Circles across the map, and how many places are told apart. */
const [CELLS_ACROSS, MOST_APART] = [20, 250];

type GatheredProps = {
  of: Many;
  field: string;
  title: string | undefined;
  projection: GeoProjection;
  scale: number;
  onNearer: (center: Position) => void;
  onOpen: (id: string) => void;
};

/** What lies in view, counted by cells of a grid; a few places are shown as they are. */
export function Gathered({ of: { at, filter }, field, title, projection, scale, onNearer, onOpen }: GatheredProps) {
  const invert = projection.invert as (at: Position) => Position;
  const [west, north] = invert([0, 0]);
  const [east, south] = invert([WIDTH, HEIGHT]);
  const within = (degrees: number, most: number) => Math.max(-most, Math.min(most, degrees));
  // A width of few digits: the same cells while the map is moved.
  const width = Number(Math.min(45, Math.max(0.0001, (east - west) / CELLS_ACROSS)).toPrecision(1));
  const outwards = (degrees: number, round: (value: number) => number) => Number((round(degrees / width) * width).toFixed(4));
  const box = [
    within(outwards(west, Math.floor), 180),
    within(outwards(south, Math.floor), 90),
    within(outwards(east, Math.ceil), 180),
    within(outwards(north, Math.ceil), 90),
  ].join(', ');
  const inView = withCondition(filter, `S_INTERSECTS(${field}, BBOX(${box}))`);
  const term = `${field}:${width}`;
  const cells = useCall(operations.managedRecords.summary, { params: at, query: { group: term, filter: inView, limit: 1000 } });
  const groups = (cells.data?.groups ?? []) as { count: number; [term: string]: unknown }[];
  const total = groups.reduce((sum, one) => sum + one.count, 0);
  const isFew = cells.data !== undefined && !cells.data.more && total <= MOST_APART;
  const records = useCall(
    operations.managedRecords.list,
    { params: at, query: { filter: inView, limit: MOST_APART, fields: [field, ...(title ? [title] : [])].join(',') } },
    { enabled: isFew },
  );
  if (isFew && records.data)
    return records.data.items.map((record) => {
      const position = positionOf(record as JsonObject, field);
      return (
        position && (
          <Dot
            key={record.id}
            record={record}
            at={projection(position) as Position}
            label={title ? String(record[title] ?? record.id) : record.id}
            named={total <= NAMED}
            fresh={false}
            onOpen={onOpen}
          />
        )
      );
    });
  const most = Math.max(1, ...groups.map((one) => one.count));
  return groups.flatMap((group) => {
    const centre = (group[term] as { coordinates: Position } | null)?.coordinates;
    if (!centre) return [];
    const [x, y] = projection(centre) as Position;
    const radius = 7 + 11 * (Math.log(group.count + 1) / Math.log(most + 1));
    return (
      // biome-ignore lint/a11y/useSemanticElements: a part of a drawing
      <g
        key={`${scale} ${centre.join()}`}
        className="gathered"
        role="button"
        tabIndex={0}
        aria-label={`${count(group.count)} places; come nearer`}
        onClick={() => onNearer(centre)}
        onKeyDown={({ key }) => key === 'Enter' && onNearer(centre)}
      >
        <circle cx={x} cy={y} r={radius} />
        <text x={x} y={y} dy="0.35em" textAnchor="middle">
          {count(group.count)}
        </text>
      </g>
    );
  });
}
