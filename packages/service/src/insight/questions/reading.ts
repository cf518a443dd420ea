/** Reads what a question says: its period, filters with the properties that came, and the columns it needs. */
import { Problem } from '@orchard/contract';
import { FilterError, flatScope, readFilter, type ValueKind } from '@orchard/core';
import {
  BUILT_IN,
  BY_PERSON,
  columnsOfProperty,
  type EventFilter,
  namesIn,
  type PropertyType,
  propertyColumn,
  type Wanted,
} from '@orchard/core/insight';
import type { Environment } from '../../platform/call.js';
import { demandRange } from '../../operations/telemetry/range.js';
import { insightSettings } from '../events/settings.js';
import type { Parts } from './parts.js';

const DAY_MS = 86_400_000;
const MOST_MS = 800 * DAY_MS;
const USUAL_MS = 28 * DAY_MS;

type Asked = { from?: string | undefined; until?: string | undefined; zone?: string | undefined };

/** One question in an environment: its zone, and the properties that filters may name. */
export class QuestionReader {
  readonly columns = new Set<string>();

  private constructor(
    readonly environment: Environment,
    readonly period: { from: number; until: number },
    readonly zone: string,
    readonly gapMs: number,
    private readonly types: ReadonlyMap<string, PropertyType>,
  ) {}

  /** @throws {Problem} invalid-input */
  static async of({ plan, now }: Parts, environment: Environment, body: Asked): Promise<QuestionReader> {
    const until = body.until ?? new Date(now()).toISOString();
    const from = body.from ?? new Date(Date.parse(until) - USUAL_MS).toISOString();
    const period = demandRange({ from, until }, now());
    if (period.until - period.from > MOST_MS)
      throw new Problem('invalid-input', 'The period is longer than 800 days.', {
        fields: [{ path: 'body.from', problem: 'It lies more than 800 days before `until`.', expected: 'a later time' }],
      });
    const { zone, visitGapMin } = await insightSettings.read(environment);
    const types = new Map<string, PropertyType>([
      ...(await plan.types(environment.db)),
      ...BUILT_IN.map((name) => [name, 'text'] as const),
    ]);
    return new QuestionReader(environment, period, body.zone ?? zone, visitGapMin * 60_000, types);
  }

  /** The names of all properties there are. */
  get properties(): string[] {
    return [...this.types.keys()];
  }

  /** @throws {Problem} malformed-filter */
  filter(text: string | undefined): EventFilter | null {
    if (!text?.trim()) return null;
    const kinds = new Map<string, ValueKind>([...this.types, ['event', 'text']]);
    try {
      const condition = readFilter(text, flatScope(kinds));
      for (const name of namesIn(condition)) if (name !== 'event') this.columns.add(propertyColumn(name, this.types.get(name) ?? 'text'));
      return { condition, types: this.types };
    } catch (error) {
      if (error instanceof FilterError) throw new Problem('malformed-filter', `${error.message}.`);
      throw error;
    }
  }

  wanted({ event, filter }: { event?: string | undefined; filter?: string | undefined }): Wanted {
    return { event: event ?? null, filter: this.filter(filter) };
  }

  /** @throws {Problem} malformed-filter for a property that never came */
  groups(names: readonly string[]): readonly string[] {
    for (const name of names) {
      // It needs no column: who came first when is known of people.
      if (name === BY_PERSON) continue;
      if (name !== 'event' && !this.types.has(name))
        throw new Problem('malformed-filter', `There is no property \`${name}\` to group by. \`orchard event list\` lists what came.`);
      for (const column of columnsOfProperty(name)) this.columns.add(column);
    }
    return names;
  }

  number(name: string): string {
    this.columns.add(propertyColumn(name, 'number'));
    return name;
  }

  reading(period = this.period) {
    return { ...period, columns: [...this.columns] };
  }
}
