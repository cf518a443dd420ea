/**
 * What is due, and what comes next, as the records stand at the moment: nothing is planned ahead, so a record that changes
 * moves or withdraws its notification by itself.
 */
import { Problem, type StandingDefinition, type Upcoming } from '@orchard/contract';
import type { Field, JsonObject } from '@orchard/core';
import {
  type ContentSet,
  contentFor,
  contentProblems,
  datesDue,
  fillSet,
  type Known,
  MissingValue,
  type StandingTime,
  standingDue,
  fillContent,
} from '@orchard/core/messages';
import type { Shapes } from '../../data/collections/catalogue.js';
import { targetOf } from '../../data/collections/querySql.js';
import { type CollectionShape, visibleNames } from '../../data/collections/shape.js';
import { THE_SERVICE_ITSELF } from '../../data/records/author.js';
import { RecordLists } from '../../data/records/listStore.js';
import { Records } from '../../data/records/records.js';
import type { Environment } from '../../platform/call.js';
import { UserStore } from '../../people/users/store.js';
import { type Carried, DeviceStore } from '../devices/store.js';
import type { Parts } from './parts.js';
import type { RecordPage } from '../../data/records/forms.js';

/** For people without a device, and nowhere said otherwise. */
const NO_ZONE = 'UTC';
const PAGE = 500;

/** One record whose time has come, or comes. */
export type Occasion = { record: JsonObject & { id: string }; value: string; userId: string | null; zone: string; dueAt: number };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: `body.${path}`, problem, expected }] });

export class DueRecords {
  readonly #lists: RecordLists;
  readonly #devices: DeviceStore;
  readonly #users = new UserStore();

  constructor(private readonly parts: Parts) {
    this.#lists = new RecordLists(parts, new Records(parts));
    this.#devices = new DeviceStore(parts);
  }

  /** Checks a definition against the collection. @throws {Problem} collection-unknown, malformed-filter, invalid-input */
  async demandSound(environment: Environment, standing: StandingDefinition): Promise<void> {
    const { shapes, shape } = await this.#shape(environment, standing.collection);
    const field = shape.fields.get(standing.field);
    if (field?.type !== 'date' && field?.type !== 'time')
      throw invalid(
        'field',
        `\`${standing.field}\` of \`${shape.name}\` is no date or time.`,
        `one of: ${namesOfType(shape, 'date', 'time')}`,
      );
    timeOf(standing, field);
    const isPerson = standing.to === 'ownerId' || shape.fields.get(standing.to)?.to === 'users';
    if (!isPerson)
      throw invalid(
        'to',
        `\`${standing.to}\` of \`${shape.name}\` names no user.`,
        `ownerId, or a reference to users: ${
          [...shape.fields]
            .filter(([, { to }]) => to === 'users')
            .map(([name]) => name)
            .join(', ') || 'there is none'
        }`,
      );
    const [problem] = contentProblems(contentOf(standing), { record: variablesOf(shapes, shape) });
    if (problem)
      throw invalid(problem.at, `\`${problem.at}\`: ${problem.problem}`, 'variables of record, user and device, such as {record.hut.name}');
    // Reads nothing, and says what is wrong with the filter.
    await this.#page(environment, standing, 'FALSE', undefined, 1);
  }

  /** What became due after one instant and up to another, a page at a time. */
  async *between(environment: Environment, standing: StandingDefinition, after: number, until: number): AsyncGenerator<Occasion[]> {
    const { shape } = await this.#shape(environment, standing.collection);
    const when = timeOf(standing, shape.fields.get(standing.field));
    for (const condition of await this.#conditions(environment, standing, when, after, until)) {
      let cursor: string | undefined;
      do {
        const page = await this.#page(environment, standing, condition, cursor, PAGE);
        const occasions = await this.#occasions(environment, standing, when, page.items);
        yield occasions.filter(({ dueAt }) => dueAt > after && dueAt <= until);
        cursor = page.next;
      } while (cursor);
    }
  }

  /** Records by what is compared with their field: only dates that are due on somebody's clock are read. */
  async #conditions(environment: Environment, { field, zone }: StandingDefinition, when: StandingTime, after: number, until: number) {
    if ('minutesBefore' in when) {
      const at = (ms: number) => `TIMESTAMP('${new Date(ms + when.minutesBefore * 60_000).toISOString()}')`;
      return [`${field} > ${at(after)} AND ${field} <= ${at(until)}`];
    }
    const zones = zone ? [zone] : [NO_ZONE, ...(await this.#devices.zones(environment))];
    const isDue = (date: string) => zones.some((one) => isWithin(standingDue(when, date, one), after, until));
    return datesDue(when, after, until)
      .filter(isDue)
      .map((date) => `${field} = DATE('${date}')`);
  }

  async #page(
    environment: Environment,
    { collection, field, filter }: StandingDefinition,
    condition: string,
    cursor: string | undefined,
    limit: number,
  ): Promise<RecordPage> {
    const { shape } = await this.#shape(environment, collection);
    const include = referencesOf(shape).join(',') || undefined;
    const request = { filter: filter ? `(${filter}) AND ${condition}` : condition, sort: field, limit, cursor, include };
    return this.#lists.list(environment, collection, request, THE_SERVICE_ITSELF);
  }

  async #occasions(environment: Environment, standing: StandingDefinition, when: StandingTime, records: (JsonObject & { id: string })[]) {
    const carried = standing.zone ? null : await this.#devices.carriedBy(environment, peopleOf(standing, records));
    return records.flatMap((record): Occasion[] => {
      const userId = (record[standing.to] as string | null) ?? null;
      const zone = standing.zone ?? carried?.get(userId ?? '')?.zone ?? NO_ZONE;
      const value = record[standing.field] as string;
      const dueAt = standingDue(when, value, zone);
      return dueAt === null ? [] : [{ record, value, userId, zone, dueAt }];
    });
  }

  /** Who gets what next, the soonest first. @throws {Problem} collection-unknown, malformed-filter, invalid-input */
  async next(environment: Environment, standing: StandingDefinition, limit: number): Promise<Upcoming[]> {
    const { shape } = await this.#shape(environment, standing.collection);
    const when = timeOf(standing, shape.fields.get(standing.field));
    const now = this.parts.now();
    const first =
      'minutesBefore' in when
        ? `TIMESTAMP('${new Date(now + when.minutesBefore * 60_000).toISOString()}')`
        : `DATE('${datesDue(when, now, now)[0]}')`;
    const { items } = await this.#page(environment, standing, `${standing.field} >= ${first}`, undefined, Math.min(1000, limit + 200));
    const occasions = (await this.#occasions(environment, standing, when, items))
      .filter(({ dueAt }) => dueAt > now)
      .sort((a, b) => a.dueAt - b.dueAt)
      .slice(0, limit);
    const people = peopleOf(
      standing,
      occasions.map(({ record }) => record),
    );
    const [carried, users] = await Promise.all([this.#devices.carriedBy(environment, people), this.#users.several(environment, people)]);
    return occasions.map((occasion) => {
      const user = users.get(occasion.userId ?? '');
      return {
        record: occasion.record.id,
        value: occasion.value,
        dueAt: new Date(occasion.dueAt).toISOString(),
        zone: occasion.zone,
        userId: occasion.userId,
        person: user ? (user.name ?? user.email) : null,
        ...shownContent(standing, occasion, user ?? {}),
        reach: reachOf(standing, occasion, carried.get(occasion.userId ?? '')),
      };
    });
  }

  async #shape(environment: Environment, collection: string): Promise<{ shapes: Shapes; shape: CollectionShape }> {
    const shapes = await this.parts.catalogue.shapes(environment, collection);
    const shape = shapes.collections.get(collection);
    if (!shape) throw await this.parts.catalogue.unknown(environment, collection);
    return { shapes, shape };
  }
}

const isWithin = (at: number | null, after: number, until: number): boolean => at !== null && at > after && at <= until;
const peopleOf = ({ to }: StandingDefinition, records: readonly JsonObject[]): string[] => [
  ...new Set(records.map((record) => record[to]).filter((id): id is string => typeof id === 'string')),
];
const namesOfType = ({ fields }: CollectionShape, ...types: string[]): string =>
  [...fields]
    .filter(([, { type }]) => types.includes(type))
    .map(([name]) => name)
    .join(', ') || 'the collection has none';
/** As many as one list includes. */
const MOST_INCLUDED = 10;
const referencesOf = ({ fields }: CollectionShape): string[] =>
  [...fields]
    .filter(([, { type }]) => type === 'reference')
    .map(([name]) => name)
    .slice(0, MOST_INCLUDED);

/** @throws {Problem} invalid-input, where it does not go with the field */
function timeOf({ daysBefore, at, minutesBefore, field }: StandingDefinition, of: Field | undefined): StandingTime {
  if (of?.type === 'time') {
    if (minutesBefore === undefined || daysBefore !== undefined || at !== undefined)
      throw invalid('minutesBefore', `\`${field}\` is a time.`, 'minutesBefore alone');
    return { minutesBefore };
  }
  if (of?.type !== 'date') throw invalid('field', `\`${field}\` is no date or time now.`, 'a field of type date or time');
  if (daysBefore === undefined || at === undefined || minutesBefore !== undefined)
    throw invalid('daysBefore', `\`${field}\` is a date.`, 'daysBefore and at, such as 1 and 18:00');
  return { daysBefore, at };
}

/** The content alone, as a notification takes it. */
export function contentOf(standing: StandingDefinition): ContentSet {
  const {
    name: _n,
    collection: _c,
    field: _f,
    filter: _q,
    to: _t,
    daysBefore: _d,
    at: _a,
    minutesBefore: _m,
    zone: _z,
    way: _w,
    active: _x,
    ...content
  } = standing;
  return content as ContentSet;
}

/** Variables under `record`: fields, and one step along references. */
function variablesOf(shapes: Shapes, shape: CollectionShape): Known {
  const known = (of: CollectionShape, deep: boolean): Known =>
    Object.fromEntries(
      visibleNames(of, true).map((name): [string, Known] => {
        const target = deep ? targetOf(shapes, of, name, true) : null;
        if (target) return [name, known(target, false)];
        return [name, of.fields.get(name)?.type === 'object' ? 'open' : true];
      }),
    );
  return known(shape, true);
}

/** The content for a record: its own variables filled, those of people and devices left for each delivery. @throws {MissingValue} */
export function contentForRecord(standing: StandingDefinition, { _included, ...record }: JsonObject): ContentSet {
  return fillSet(contentOf(standing), 'record', { ...record, ...(_included as JsonObject | undefined) });
}

function shownContent(standing: StandingDefinition, { record }: Occasion, user: JsonObject): Pick<Upcoming, 'title' | 'body'> {
  try {
    const content = contentFor(contentForRecord(standing, record), '', '', 'a');
    const { title, body } = fillContent(content, { user, device: {} });
    return { title: title ?? null, body: body ?? null };
  } catch (error) {
    if (error instanceof MissingValue) return { title: null, body: `Cannot be sent: ${error.message}` };
    throw error;
  }
}

function reachOf({ way }: StandingDefinition, { userId }: Occasion, carried: Carried | undefined): string {
  if (!userId) return 'The record names nobody.';
  if (way !== 'push') return way === 'sms' ? 'By SMS to the user’s number' : 'By mail to the user’s address';
  if (!carried) return 'The user has no device.';
  return carried.reachable > 0
    ? `${carried.reachable} device${carried.reachable === 1 ? '' : 's'}`
    : (carried.why ?? 'No device can be reached.');
}
