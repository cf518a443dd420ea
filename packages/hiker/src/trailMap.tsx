import type { Schema } from './schema.js';

const [WIDTH, HEIGHT, EDGE] = [340, 300, 24];
/** Room for a name on either side. */
const SIDE = 102;

/** The trail from hut to hut, drawn from what the phone has: no map service, so it is there without a signal. */
export function TrailMap({ huts }: { huts: Schema['huts'][] }) {
  const placed = huts.flatMap((hut) => (hut.position ? [{ hut, at: hut.position.coordinates }] : []));
  if (placed.length < 2) return null;
  const [longitudes, latitudes] = [placed.map(({ at }) => at[0]), placed.map(({ at }) => at[1])];
  const scale = (value: number, values: number[], size: number, edge: number) =>
    edge + ((value - Math.min(...values)) / (Math.max(...values) - Math.min(...values) || 1)) * (size - 2 * edge);
  const points = placed
    .map(({ hut, at }) => ({ hut, x: scale(at[0], longitudes, WIDTH, SIDE), y: HEIGHT - scale(at[1], latitudes, HEIGHT, EDGE) }))
    .sort((a, b) => b.y - a.y);
  return (
    <section aria-label="Map">
      <svg className="map" viewBox={`0 0 ${WIDTH} ${HEIGHT}`}>
        <title>The trail from hut to hut, south at the bottom</title>
        <polyline points={points.map(({ x, y }) => `${x},${y}`).join(' ')} />
        {points.map(({ hut, x, y }, i) => (
          <a key={hut.id} href={`#huts/${hut.id}`} aria-label={`${hut.name}, ${hut.state}`}>
            <circle cx={x} cy={y} r={7} data-state={hut.state} />
            <text x={x + (i % 2 ? 12 : -12)} y={y + 4} textAnchor={i % 2 ? 'start' : 'end'}>
              {hut.name}
            </text>
          </a>
        ))}
      </svg>
    </section>
  );
}
