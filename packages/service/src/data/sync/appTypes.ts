/** The schema of an environment, as an app that is built against it needs it. */
import { expectedFields, schemaTypes, type TypedCollection } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { fieldsIn } from '../../people/users/fields.js';
import { THE_SERVICE_ITSELF } from '../records/author.js';
import { RecordLists } from '../records/listStore.js';
import { Records } from '../records/records.js';
import type { Parts } from './parts.js';

/** A collection of so few records may have some that apps know by name. */
const FEW = 20;
/** RFC 9562 section 4: an id that nobody chose. */
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;

export async function typesOf(parts: Parts, environment: Environment) {
  const shapes = await parts.catalogue.all(environment);
  const collections: TypedCollection[] = [];
  for (const { name, fields } of shapes.sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const shown = [...fields].filter(([, { hidden }]) => !hidden);
    collections.push({
      name,
      fields: shown.map(([field, { type, required = false, choices, to }]) => ({ name: field, type, required, choices, to })),
      wellKnown: await wellKnownIn(parts, environment, name),
    });
  }
  const userFields = Object.entries(await fieldsIn(environment)).map(([name, field]) => ({ name, required: false, ...field }));
  const schema = { collections, userFields, endpoints: await parts.functionPorts.endpoints(environment) };
  return { text: schemaTypes(`${environment.app}/${environment.name}`, schema), expects: expectedFields(schema) };
}

async function wellKnownIn(parts: Parts, environment: Environment, collection: string): Promise<string[]> {
  const lists = new RecordLists(parts, new Records(parts));
  const { items } = await lists.list(environment, collection, { fields: 'id', sort: 'id', limit: FEW + 1 }, THE_SERVICE_ITSELF);
  return items.length > FEW ? [] : items.map(({ id }) => id).filter((id) => !UUID.test(id));
}
