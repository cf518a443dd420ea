/** Maps the columns of a file to fields: names, and values of CSV texts. */
import { Problem } from '@orchard/contract';
import {
  convertValue,
  type Field,
  type FieldType,
  type Fields,
  isPlainObject,
  type Json,
  type JsonObject,
  SYSTEM_KINDS,
  guessType,
} from '@orchard/core';
import type { Format, Row } from './rows.js';

/** Column to field, `field.longitude`, `field.latitude`, or null to leave it out. */
export type Mapping = ReadonlyMap<string, string | null>;
const IGNORED = new Set(['createdAt', 'updatedAt', 'version']);

const invalid = (problem: string) =>
  new Problem('invalid-input', problem, {
    fields: [
      {
        path: 'query.columns',
        problem,
        expected: 'a JSON object from column to field, such as {"Name":"name","lon":"position.longitude"}',
      },
    ],
  });

/** @throws {Problem} invalid-input */
export function readMapping(text: string | undefined): Mapping {
  if (!text) return new Map();
  let value: Json;
  try {
    value = JSON.parse(text);
  } catch {
    throw invalid('`columns` is not JSON.');
  }
  if (!isPlainObject(value) || !Object.values(value).every((field) => field === null || typeof field === 'string'))
    throw invalid('`columns` is not an object of names.');
  return new Map(Object.entries(value) as [string, string | null][]);
}

/** Turns rows into bodies of records. */
export class RowMapper {
  readonly #guessed = new Map<string, FieldType>();

  constructor(
    private readonly format: Format,
    private readonly mapping: Mapping,
  ) {}

  /** Reads the first rows of a file, to infer the types of new columns. */
  learn(rows: readonly Row[], fields: Fields): void {
    if (this.format !== 'csv') return;
    for (const column of Object.keys(rows[0]?.values ?? {})) {
      const field = this.#fieldOf(column);
      if (
        field &&
        !field.includes('.') &&
        !fields.has(field) &&
        !SYSTEM_KINDS.has(field) &&
        rows.some(({ values }) => values[column] !== '')
      )
        this.#guessed.set(field, guessType(rows.map(({ values }) => String(values[column] ?? ''))));
    }
  }

  /** New fields for the columns of a CSV file, by the type that fits all of their first texts. */
  get guessed(): Fields {
    return new Map([...this.#guessed].map(([name, type]) => [name, { type }]));
  }

  #fieldOf(column: string): string | null {
    const mapped = this.mapping.get(column);
    return mapped === undefined ? column : mapped;
  }

  /** The body to store. */
  bodyOf({ values }: Row, fields: Fields): JsonObject {
    // Without a prototype: a column may have any name.
    const body: JsonObject = Object.create(null);
    const axes = new Map<string, Partial<Record<'longitude' | 'latitude', Json>>>();
    for (const column in values) {
      const name = this.#fieldOf(column);
      if (name === null || IGNORED.has(name)) continue;
      const [field = '', axis] = name.split('.');
      const value = values[column] as Json;
      if (axis === 'longitude' || axis === 'latitude') axes.set(field, { ...axes.get(field), [axis]: value });
      else if (this.format !== 'csv') body[name] = value;
      else if (value !== '') body[name] = this.#cell(name, value as string, fields);
    }
    for (const [field, { longitude, latitude }] of axes) {
      if (longitude !== '' && latitude !== '') body[field] = { type: 'Point', coordinates: [Number(longitude), Number(latitude)] };
    }
    return body;
  }

  /** A text that cannot be converted stays as it is, and is refused with the field's message. */
  #cell(name: string, text: string, fields: Fields): Json {
    const known = fields.get(name);
    const field: Field = known ?? { type: this.#guessed.get(name) ?? 'text' };
    if (SYSTEM_KINDS.has(name) || field.type === 'text') return text;
    // Limits are checked later, on the value: a number that is too small is still a number.
    return convertValue(text, { type: field.type, ...(field.choices ? { choices: field.choices } : {}) }) ?? text;
  }
}
