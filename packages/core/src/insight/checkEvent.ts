/** Whether an event that an app reported can be taken, and what is kept of it. */
import { isPlainObject, type Json, type JsonObject } from '../json.js';
import { nearest } from '../filter/nearest.js';
import { BUILT_IN, type EventProblem, OF_EVENT, type PropertyType, type PropertyValue, typeOfValue } from './event.js';
import { visitNumber } from './segment.js';

/** What a team plans of one event. */
export type PlannedEvent = { properties: Readonly<Record<string, { type: PropertyType }>> };

export type EventGround = {
  /** The service's clock, milliseconds since 1970. */
  now: number;
  /** How far the app's clock is behind it. */
  skewMs: number;
  /** Null where there is no plan for an event of this name. */
  plannedAs: (name: string) => PlannedEvent | null;
  refuseUnplanned: boolean;
  /** Names of properties that are not kept. */
  barred: ReadonlySet<string>;
};
export type CheckedEvent = {
  id: string;
  name: string;
  at: number;
  visit: number;
  properties: Record<string, PropertyValue>;
  /** Whether the plan has it as it came; null where there is no plan for it. */
  isPlanned: boolean;
};
export type EventCheck = { ok: true; event: CheckedEvent } | { ok: false; problem: EventProblem; detail: string };

const LATE_MS = 7 * 86_400_000;
const AHEAD_MS = 60_000;
const MOST_PROPERTIES = 50;
const MOST_NAME = 100;
const MOST_TEXT = 500;
const MOST_ITEMS = 50;
const PROPERTY_NAME = /^[A-Za-z_][A-Za-z0-9_]{0,62}$/;
const RESERVED: ReadonlySet<string> = new Set([...BUILT_IN, ...OF_EVENT]);
const MEMBERS = ['id', 'name', 'at', 'visit', 'properties'];

const refused = (problem: EventProblem, detail: string): EventCheck => ({ ok: false, problem, detail });
const malformed = (detail: string): EventCheck => refused('event-malformed', detail);
const CONTROL = /[\u0000-\u001f\u007f]/;

export function checkEvent(given: Json, ground: EventGround): EventCheck {
  if (!isPlainObject(given)) return malformed('An event must be a JSON object.');
  const unknown = Object.keys(given).find((name) => !MEMBERS.includes(name));
  if (unknown !== undefined)
    return malformed(`Unknown member \`${unknown.slice(0, 60)}\`; did you mean \`${nearest(unknown, MEMBERS) || 'properties'}\`?`);
  const { id, name, at, visit = null, properties = {} } = given;
  if (typeof id !== 'string' || id.length < 1 || id.length > 64) return malformed('`id` must be a text of 1 to 64 characters.');
  if (typeof name !== 'string' || name.trim() === '' || name.length > MOST_NAME || CONTROL.test(name))
    return malformed(`\`name\` must be a text of 1 to ${MOST_NAME} characters without control characters.`);
  if (typeof at !== 'string' || Number.isNaN(Date.parse(at)) || typeOfValue(at) !== 'time')
    return malformed('`at` must be a time of RFC 3339, such as 2026-11-26T18:00:00.000Z.');
  if (visit !== null && (typeof visit !== 'string' || visit.length < 1 || visit.length > 64))
    return malformed('`visit` must be a text of 1 to 64 characters.');
  if (!isPlainObject(properties)) return malformed('`properties` must be a JSON object.');
  const time = Date.parse(at) + ground.skewMs;
  if (time > ground.now + AHEAD_MS)
    return refused(
      'event-in-future',
      `${at} lies in the future, although the skew between \`sentAt\` and the service’s clock was taken out.`,
    );
  if (time < ground.now - LATE_MS) return refused('event-too-late', `${at} is more than seven days ago. It is not counted.`);
  const checked = checkProperties(properties, ground);
  if (!('kept' in checked)) return checked;
  const planned = ground.plannedAs(name);
  if (!planned && ground.refuseUnplanned) return refused('event-unplanned', `\`${name}\` is not in the event plan.`);
  const misfit = planned && misfitOf(checked.kept, planned);
  if (misfit && ground.refuseUnplanned) return refused('property-unfit', misfit);
  return {
    ok: true,
    event: {
      id,
      name,
      at: Math.min(time, ground.now),
      visit: visit === null ? 0 : visitNumber(visit as string),
      properties: checked.kept,
      isPlanned: planned !== null && misfit === null,
    },
  };
}

function checkProperties(given: JsonObject, { barred }: EventGround): { kept: Record<string, PropertyValue> } | EventCheck {
  const entries = Object.entries(given);
  if (entries.length > MOST_PROPERTIES) return malformed(`It has ${entries.length} properties; at most ${MOST_PROPERTIES} are taken.`);
  const kept: Record<string, PropertyValue> = {};
  for (const [name, value] of entries) {
    if (RESERVED.has(name)) return refused('property-reserved', `\`${name}\` is filled by the service. Name yours another way.`);
    if (!PROPERTY_NAME.test(name))
      return malformed(`The property \`${name.slice(0, 60)}\` must begin with a letter or _, then up to 62 letters, digits or _.`);
    if (value === null || barred.has(name)) continue;
    const problem = problemOf(value);
    if (problem) return malformed(`The property \`${name}\` ${problem}.`);
    kept[name] = value as PropertyValue;
  }
  return { kept };
}

function problemOf(value: Json): string | null {
  if (typeof value === 'boolean') return null;
  if (typeof value === 'number') return Number.isFinite(value) ? null : 'must be a finite number';
  if (typeof value === 'string') return value.length <= MOST_TEXT ? null : `has ${value.length} characters; at most ${MOST_TEXT} are taken`;
  if (!Array.isArray(value)) return 'must be a text, a number, true or false, a time, or a list of texts';
  if (value.length > MOST_ITEMS) return `has ${value.length} items; at most ${MOST_ITEMS} are taken`;
  return value.every((item) => typeof item === 'string' && item.length <= MOST_TEXT)
    ? null
    : `must be a list of texts of at most ${MOST_TEXT} characters`;
}

function misfitOf(kept: Record<string, PropertyValue>, { properties }: PlannedEvent): string | null {
  for (const [name, value] of Object.entries(kept)) {
    const planned = properties[name];
    if (!planned) return `\`${name}\` is not among the planned properties.`;
    const type = typeOfValue(value);
    // A text may happen to look like a time.
    if (type !== planned.type && !(planned.type === 'text' && type === 'time'))
      return `\`${name}\` is planned as ${planned.type}; it came as ${type}.`;
  }
  return null;
}
