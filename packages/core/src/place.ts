/** Places: GeoJSON Points (RFC 7946 section 3.1.2), longitude first. */
import { isPlainObject, type Json } from './json.js';

export type Place = { type: 'Point'; coordinates: [number, number] };

/** True for a GeoJSON Point whose position is on the globe (RFC 7946 section 4: WGS 84 degrees). */
export function isPlace(value: Json): value is Place {
  if (!isPlainObject(value) || value.type !== 'Point' || !Array.isArray(value.coordinates)) return false;
  if (Object.keys(value).length !== 2 || value.coordinates.length !== 2) return false;
  const [lon, lat] = value.coordinates;
  return typeof lon === 'number' && typeof lat === 'number' && Math.abs(lon) <= 180 && Math.abs(lat) <= 90;
}
