/** Records on a map with land and a grid of our own, without external tiles. A radius can be drawn for a search. */
import { Button, Group, NumberInput, SegmentedControl, Stack, Text } from '@mantine/core';
import { type Collection, operations, type OrchardRecord } from '@orchard/contract';
import { distanceM, type JsonObject } from '@orchard/core';
import { IconMinus, IconPlus } from '@tabler/icons-react';
import { geoCircle, geoGraticule, geoMercator, geoPath, type GeoProjection } from 'd3-geo';
import { type PointerEvent, useMemo, useRef, useState } from 'react';
import { feature } from 'topojson-client';
import land110 from 'world-atlas/land-110m.json';
import { useCall } from '../api.js';
import { Loaded } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { FilterBar, partsOf, withCondition } from '../parts/filterBar.js';
import type { useListState } from '../parts/listState.js';
import { useEnvironment } from '../environment.js';
import { useFresh } from './fresh.js';
import { Gathered, type Many } from './gathered.js';
import { Dot, HEIGHT, NAMED, type Position, positionOf, WIDTH } from './mapMarks.js';
import { namesOf } from './names.js';

const MOST = 1000;
/** Beyond this zoom the coastline is too coarse to be useful. */
const LAND_SCALE = 12_000;
const EARTH_RADIUS_M = 6_370_986;
const LAND = feature(land110 as never, (land110 as unknown as { objects: { land: never } }).objects.land) as never;

type View = { center: Position; scale: number };

/** A view of all positions, with a margin. */
function viewOf(positions: Position[]): View {
  if (positions.length === 0) return { center: [10, 30], scale: 150 };
  const fitted = geoMercator().fitExtent(
    [
      [70, 60],
      [WIDTH - 70, HEIGHT - 60],
    ],
    { type: 'MultiPoint', coordinates: positions },
  );
  const center = (fitted.invert as (at: Position) => Position)([WIDTH / 2, HEIGHT / 2]);
  return { center, scale: Math.min(fitted.scale(), 60_000) };
}
const projectionOf = ({ center, scale }: View): GeoProjection =>
  geoMercator()
    .center(center)
    .scale(scale)
    .translate([WIDTH / 2, HEIGHT / 2]);

export function MapView({
  collection,
  all,
  field,
  state,
  onOpen,
}: {
  collection: Collection;
  all: Collection[];
  field: string;
  state: ReturnType<typeof useListState>;
  onOpen: (id: string) => void;
}) {
  const { params } = useEnvironment();
  const at = { ...params, collection: collection.name };
  const filter = state.filter ? withCondition(state.filter, `${field} IS NOT NULL`) : `${field} IS NOT NULL`;
  const title = collection.fields.find(({ name }) => name === 'name' || name === 'title')?.name;
  const records = useCall(operations.managedRecords.list, {
    params: at,
    query: { filter, limit: MOST, count: 'true' as never, fields: [field, ...(title ? [title] : [])].join(',') },
  });
  const { fresh } = useFresh(at, state.filter);
  return (
    <>
      <FilterBar
        state={state}
        presets={[]}
        example={`distance(${field}, POINT(8.3 61.2)) < 5000`}
        error={null}
        names={namesOf(collection, all)}
      />
      <Loaded of={records}>
        {({ items, count: total }) => (
          <>
            <Drawing
              key={field}
              gathered={total !== undefined && total > items.length ? { at, filter } : null}
              items={items}
              field={field}
              title={title}
              fresh={fresh}
              onOpen={onOpen}
              onRadius={(center, metres) => {
                const others = partsOf(state.filter).filter((part) => !part.startsWith(`distance(${field},`));
                state.setFilter(
                  withCondition(
                    others.join(' AND '),
                    `distance(${field}, POINT(${center.map((n) => n.toFixed(4)).join(' ')})) < ${Math.round(metres)}`,
                  ),
                );
              }}
              radius={radiusIn(state.filter, field)}
            />
            <Text size="sm" c="dimmed" mt={4}>
              {count(total ?? items.length)} places
              {total !== undefined && total > items.length && '. Those that lie close together are counted; come nearer to tell them apart'}
            </Text>
          </>
        )}
      </Loaded>
    </>
  );
}

type Radius = { center: Position; metres: number };
/** The radius that the filter searches in. */
function radiusIn(filter: string, field: string): Radius | null {
  const part = partsOf(filter).find((one) => one.startsWith(`distance(${field},`));
  const [, lon, lat, metres] = /POINT\((-?[\d.]+) (-?[\d.]+)\)\) <=? (\d+)/.exec(part ?? '') ?? [];
  return metres ? { center: [Number(lon), Number(lat)], metres: Number(metres) } : null;
}

type DrawingProps = {
  items: OrchardRecord[];
  /** Where there are more places than are listed. */
  gathered: Many | null;
  field: string;
  title: string | undefined;
  fresh: ReadonlySet<string>;
  radius: Radius | null;
  onOpen: (id: string) => void;
  onRadius: (center: Position, metres: number) => void;
};

function Drawing({ items, gathered, field, title, fresh, radius, onOpen, onRadius }: DrawingProps) {
  const places = items.flatMap((record) => {
    const position = positionOf(record as JsonObject, field);
    return position ? [{ record, position }] : [];
  });
  const [view, setView] = useState<View>(() =>
    viewOf(radius && places.length === 0 ? [radius.center] : places.map(({ position }) => position)),
  );
  const [mode, setMode] = useState<'move' | 'draw'>('move');
  const svg = useRef<SVGSVGElement>(null);
  const [start, setStart] = useState<{ at: Position; geo: Position } | null>(null);
  const [drawn, setDrawn] = useState<Radius | null>(null);
  const projection = useMemo(() => projectionOf(view), [view]);
  const shown = drawn ?? radius;
  const pointOf = (event: PointerEvent): Position => {
    const box = (svg.current as SVGSVGElement).getBoundingClientRect();
    return [((event.clientX - box.left) / box.width) * WIDTH, ((event.clientY - box.top) / box.height) * HEIGHT];
  };
  const invert = (at: Position) => (projection.invert as (at: Position) => Position)(at);
  const zoom = (factor: number) => setView((before) => ({ ...before, scale: Math.max(80, Math.min(2e6, before.scale * factor)) }));
  function down(event: PointerEvent<SVGSVGElement>): void {
    if (mode === 'move' && (event.target as Element).closest('.dot, .gathered')) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    const at = pointOf(event);
    setStart({ at, geo: mode === 'draw' ? invert(at) : view.center });
  }
  function move(event: PointerEvent<SVGSVGElement>): void {
    if (!start) return;
    const at = pointOf(event);
    if (mode === 'draw') setDrawn({ center: start.geo, metres: distanceM(start.geo, invert(at)) });
    else {
      const [x, y] = projectionOf({ ...view, center: start.geo })(start.geo) as Position;
      setView({
        ...view,
        center: (projectionOf({ ...view, center: start.geo }).invert as (at: Position) => Position)([
          x - (at[0] - start.at[0]),
          y - (at[1] - start.at[1]),
        ]),
      });
    }
  }
  function up(): void {
    setStart(null);
    if (!drawn) return;
    if (drawn.metres > 0) onRadius(drawn.center, drawn.metres);
    setDrawn(null);
    setMode('move');
  }
  return (
    <Stack gap="xs">
      <Group gap="xs">
        <SegmentedControl
          size="xs"
          aria-label="Drag mode"
          value={mode}
          onChange={(value) => setMode(value as 'move' | 'draw')}
          data={[
            { value: 'move', label: 'Move' },
            { value: 'draw', label: 'Draw a radius' },
          ]}
        />
        <Button size="xs" variant="default" aria-label="Nearer" onClick={() => zoom(1.6)}>
          <IconPlus size={14} />
        </Button>
        <Button size="xs" variant="default" aria-label="Farther" onClick={() => zoom(1 / 1.6)}>
          <IconMinus size={14} />
        </Button>
        <Button size="xs" variant="default" onClick={() => setView(viewOf(places.map(({ position }) => position)))}>
          Show all
        </Button>
        {shown && (
          <NumberInput
            size="xs"
            aria-label="Radius in metres"
            suffix=" m"
            w={120}
            min={1}
            thousandSeparator=","
            value={Math.round(shown.metres)}
            onChange={(value) => Number(value) > 0 && onRadius(shown.center, Number(value))}
          />
        )}
      </Group>
      {/* biome-ignore lint/a11y/useSemanticElements: a drawing that holds buttons */}
      <svg
        ref={svg}
        className="map"
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        role="group"
        aria-label={`Map of ${places.length} places`}
        style={{ cursor: mode === 'draw' ? 'crosshair' : 'grab' }}
        onPointerDown={down}
        onPointerMove={move}
        onPointerUp={up}
        onWheel={({ deltaY }) => zoom(deltaY < 0 ? 1.25 : 0.8)}
      >
        <Ground projection={projection} scale={view.scale} />
        {shown && (
          <path
            className="radius"
            d={
              geoPath(projection)(
                geoCircle()
                  .center(shown.center)
                  .radius((shown.metres / EARTH_RADIUS_M) * (180 / Math.PI))(),
              ) ?? ''
            }
          />
        )}
        {gathered && (
          <Gathered
            of={gathered}
            field={field}
            title={title}
            projection={projection}
            scale={view.scale}
            onNearer={(center) => setView((before) => ({ center, scale: Math.min(2e6, before.scale * 2.5) }))}
            onOpen={mode === 'move' ? onOpen : () => undefined}
          />
        )}
        {(gathered ? [] : places).map(({ record, position }) => (
          <Dot
            key={record.id}
            record={record}
            at={projection(position) as Position}
            label={title ? String(record[title] ?? record.id) : record.id}
            named={places.length <= NAMED}
            fresh={fresh.has(record.id)}
            onOpen={mode === 'move' ? onOpen : () => undefined}
          />
        ))}
        <ScaleBar projection={projection} />
      </svg>
    </Stack>
  );
}

/** Degrees between grid lines, so that a handful are visible. */
const STEPS = [0.01, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 20, 30];
function gridStep(scale: number): number {
  const across = (WIDTH / scale) * (180 / Math.PI);
  return STEPS.find((step) => across / step <= 9) ?? 30;
}

function Ground({ projection, scale }: { projection: GeoProjection; scale: number }) {
  const path = geoPath(projection);
  const step = gridStep(scale);
  const [west, north] = (projection.invert as (at: Position) => Position)([0, 0]);
  const [east, south] = (projection.invert as (at: Position) => Position)([WIDTH, HEIGHT]);
  const lines = (from: number, to: number) =>
    Array.from(
      { length: Math.max(0, Math.min(40, Math.floor(to / step) - Math.ceil(from / step) + 1)) },
      (_, i) => (Math.ceil(from / step) + i) * step,
    );
  const round = (degrees: number) => Number(degrees.toFixed(2));
  const grid = geoGraticule()
    .step([step, step])
    .extent([
      [Math.max(-180, west - step), Math.max(-85, south - step)],
      [Math.min(180, east + step), Math.min(85, north + step)],
    ])
    .precision(Math.max(step / 2, 0.05));
  return (
    <>
      {scale < LAND_SCALE ? <path className="land" d={path(LAND) ?? ''} /> : <rect className="land" width={WIDTH} height={HEIGHT} />}
      <path className="grid" d={path(grid()) ?? ''} />
      {lines(west, east).map((lon) => (
        <text key={`x${lon}`} x={(projection([lon, (north + south) / 2]) as Position)[0] + 3} y={12}>
          {round(Math.abs(lon))}°{lon < 0 ? 'W' : 'E'}
        </text>
      ))}
      {lines(south, north).map((lat) => (
        <text key={`y${lat}`} x={4} y={(projection([(west + east) / 2, lat]) as Position)[1] - 3}>
          {round(Math.abs(lat))}°{lat < 0 ? 'S' : 'N'}
        </text>
      ))}
    </>
  );
}

/** A round length, drawn to the scale at the centre of the map. */
function ScaleBar({ projection }: { projection: GeoProjection }) {
  const invert = projection.invert as (at: Position) => Position;
  const metresAcross = distanceM(invert([WIDTH / 2 - 50, HEIGHT / 2]), invert([WIDTH / 2 + 50, HEIGHT / 2])) * 1.6;
  const power = 10 ** Math.floor(Math.log10(metresAcross));
  const metres = [5, 2, 1].map((n) => n * power).find((length) => length <= metresAcross) ?? power;
  const width = (metres / (metresAcross / 1.6)) * 100;
  return (
    <g transform={`translate(${WIDTH - width - 18}, ${HEIGHT - 24})`}>
      <path d={`M0 -5V0H${width}V-5`} fill="none" stroke="currentColor" />
      <text x={width / 2} y={-8} textAnchor="middle">
        {metres >= 1000 ? `${metres / 1000} km` : `${metres} m`}
      </text>
    </g>
  );
}
