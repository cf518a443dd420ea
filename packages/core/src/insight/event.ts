/** Events as apps report them: what they hold, what may be grouped and filtered by, and the limits. */
import type { ValueKind } from '../filter/condition.js';
import type { PropertyType } from './words.js';

export * from './words.js';

/** Names that filters and groupings know besides: of the event itself. */
export const OF_EVENT = ['event', 'visit', 'user', 'device', 'person', 'at'] as const;

export type PropertyValue = string | number | boolean | string[];
/** One event as it is counted. */
export type InsightEvent = {
  /** Number of the person. */
  person: number;
  /** Milliseconds since 1970, by the service's clock. */
  at: number;
  name: string;
  /** Of a visit that the app named, see visitNumber; 0 where the service tells visits apart. */
  visit: number;
  /** Built-in and own properties. */
  properties: Readonly<Record<string, PropertyValue>>;
};

const TIME = /^\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)$/;

/** A text in the form of RFC 3339 is a time. */
export function typeOfValue(value: PropertyValue): PropertyType {
  if (Array.isArray(value)) return 'list';
  if (typeof value === 'string') return TIME.test(value) && !Number.isNaN(Date.parse(value)) ? 'time' : 'text';
  return typeof value === 'number' ? 'number' : 'boolean';
}

export const kindOfProperty = (type: PropertyType): ValueKind => type;
