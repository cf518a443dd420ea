/** Places on the globe: positions are [longitude, latitude] in degrees, WGS 84 (RFC 7946 section 4). */
export type Position = readonly [number, number];
export type Box = [west: number, south: number, east: number, north: number];

/** The mean radius in metres that MariaDB's ST_Distance_Sphere uses. */
const RADIUS_M = 6_370_986;
const RADIANS = Math.PI / 180;

export const isOnGlobe = ([longitude, latitude]: Position): boolean => Math.abs(longitude) <= 180 && Math.abs(latitude) <= 90;

/** Great-circle distance by the haversine formula, in metres, to the millimetre. */
export function distanceM([lon1, lat1]: Position, [lon2, lat2]: Position): number {
  const [a, b] = [lat1 * RADIANS, lat2 * RADIANS];
  const dLat = Math.sin((b - a) / 2);
  const dLon = Math.sin((lon2 * RADIANS - lon1 * RADIANS) / 2);
  const h = dLat * dLat + Math.cos(a) * Math.cos(b) * dLon * dLon;
  return Math.round(2 * RADIUS_M * Math.asin(Math.sqrt(Math.min(1, h))) * 1000) / 1000;
}

/** Boxes that together hold every place within `radiusM` metres of `center`; two where the antimeridian is crossed. */
export function boxesAround([longitude, latitude]: Position, radiusM: number): Box[] {
  const angle = (radiusM / RADIUS_M) * (1 + 1e-9) + 1e-9;
  const [south, north] = [latitude - angle / RADIANS, latitude + angle / RADIANS];
  if (south <= -90 || north >= 90) return [[-180, Math.max(south, -90), 180, Math.min(north, 90)]];
  const ratio = Math.sin(angle) / Math.cos(latitude * RADIANS);
  if (angle >= Math.PI / 2 || ratio >= 1) return [[-180, south, 180, north]];
  const dLon = Math.asin(ratio) / RADIANS;
  return splitAtAntimeridian([longitude - dLon, south, longitude + dLon, north]);
}

function splitAtAntimeridian([west, south, east, north]: Box): Box[] {
  if (west < -180)
    return [
      [west + 360, south, 180, north],
      [-180, south, east, north],
    ];
  if (east > 180)
    return [
      [west, south, 180, north],
      [-180, south, east - 360, north],
    ];
  return [[west, south, east, north]];
}

/** The box of a polygon's outer ring. */
export function boxOf(ring: readonly Position[]): Box {
  const longitudes = ring.map(([longitude]) => longitude);
  const latitudes = ring.map(([, latitude]) => latitude);
  return [Math.min(...longitudes), Math.min(...latitudes), Math.max(...longitudes), Math.max(...latitudes)];
}

/** One side of a ring, as both back ends compute with it: the differences are taken once. */
export type Edge = { x1: number; y1: number; x2: number; y2: number; dx: number; dy: number };

export function edgesOf(rings: readonly (readonly Position[])[]): Edge[] {
  return rings.flatMap((ring) =>
    ring.slice(1).map(([x2, y2], i) => {
      const [x1, y1] = ring[i] as Position;
      return { x1, y1, x2, y2, dx: x2 - x1, dy: y2 - y1 };
    }),
  );
}

/** Whether a place lies on a side. The SQL back end writes out the same operations in the same order. */
export const isOnEdge = (x: number, y: number, { x1, y1, x2, y2, dx, dy }: Edge): boolean =>
  dx * (y - y1) === dy * (x - x1) && x >= Math.min(x1, x2) && x <= Math.max(x1, x2) && y >= Math.min(y1, y2) && y <= Math.max(y1, y2);

/** Whether a ray from a place to the east crosses a side. */
export const isCrossed = (x: number, y: number, { x1, y1, y2, dx, dy }: Edge): boolean =>
  y1 > y !== y2 > y && x < (dx * (y - y1)) / dy + x1;

/** Whether a place is inside the rings (even-odd rule, so inner rings are holes); `boundary` says whether the sides belong. */
export function isInside([x, y]: Position, edges: readonly Edge[], boundary: boolean): boolean {
  if (edges.some((edge) => isOnEdge(x, y, edge))) return boundary;
  return edges.reduce((inside, edge) => inside !== isCrossed(x, y, edge), false);
}
