/** Values of fields as text. */
import type { Json } from '@orchard/core';

export function showValue(value: Json | undefined): string {
  if (value === null || value === undefined) return '';
  if (typeof value === 'object' && !Array.isArray(value) && value.type === 'Point') {
    const [longitude, latitude] = value.coordinates as [number, number];
    return `${Math.abs(latitude).toFixed(3)}° ${latitude < 0 ? 'S' : 'N'}, ${Math.abs(longitude).toFixed(3)}° ${longitude < 0 ? 'W' : 'E'}`;
  }
  if (Array.isArray(value) && value.every((item) => typeof item === 'string')) return value.join(', ');
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}
