import {
  FIELD_TYPES,
  type Json,
  MERGE_POLICIES,
  ON_DELETE,
  RECORD_ACTIONS,
  RULE_PRESETS,
  type RulePreset,
  WITH_RECORD,
} from '@orchard/core/words';
import { z } from 'zod';
import { ENVIRONMENT, actor, collectionName, environmentParams, jsonObject, nothing, operation, recordId, time, uuid } from '../common.js';

const json = z.custom<Json>((value) => value !== undefined).meta({});
const bound = z.union([z.number(), z.string().max(40)]);
export const rule = z
  .string()
  .trim()
  .min(1)
  .max(4000)
  .transform((text) => RULE_PRESETS[text as RulePreset] ?? text)
  .meta({ description: `A condition in CQL2 over the record, or one of: ${Object.keys(RULE_PRESETS).join(', ')}` });
const fieldShape = {
  type: z.enum(FIELD_TYPES),
  required: z.boolean().optional(),
  default: json.optional().describe('A constant, or `now()` for a date or time'),
  unique: z.boolean().optional(),
  min: bound.optional(),
  max: bound.optional(),
  minLength: z.int().min(0).optional(),
  maxLength: z.int().min(0).optional(),
  pattern: z
    .string()
    .max(200)
    .optional()
    .describe('A regular expression (ECMA-262) that the whole text matches, without look-around and back-references'),
  choices: z.array(z.string().min(1).max(100)).min(1).max(200).optional(),
  to: collectionName.optional().describe('For a reference: the collection it refers to, or `users`'),
  onDelete: z.enum(ON_DELETE).optional().describe('For a reference or a file: what happens to the record when the target is deleted'),
  withRecord: z.enum(WITH_RECORD).optional().describe('For a file: what happens to it when the record is deleted; it is kept, if left out'),
  hidden: z.boolean().optional().describe('Not shown to clients'),
  personal: z.boolean().optional().describe('Says something of a person: a sample of records has made-up values in its place'),
  setBy: rule
    .optional()
    .describe('Who may set it, besides the team and its servers: a condition in CQL2 over the record as it is before, or as it is created'),
  seenBy: rule
    .optional()
    .describe(
      'Who may see it, besides the team and its servers: a condition in CQL2 over the record. To others it is not there, in filters either',
    ),
  merge: z
    .enum(MERGE_POLICIES)
    .optional()
    .describe(
      'Where a device changed it offline and the service has another value by then: which value stays. The service’s, if left out; `union` for lists',
    ),
};
export const field = z.strictObject(fieldShape).meta({ id: 'Field' });
export const namedField = z.strictObject({ name: collectionName, ...fieldShape });
export type NamedField = z.output<typeof namedField>;

export const rules = { read: rule, create: rule, update: rule, delete: rule };

const index = z
  .object({ name: z.string(), fields: z.array(z.string()), kind: z.enum(['order', 'unique', 'place', 'items', 'search']) })
  .meta({ id: 'Index' });
/** Where a collection stands that is a table of another server. */
export const outsideFacts = z
  .object({
    server: z.string(),
    table: z.string().describe('With its schema, where it has one'),
    key: z.string().describe('The column that stands for `id`'),
    version: z.string().nullable().describe('The column that stands for `version`; without one, a hash of the row does'),
    owner: z.string().nullable(),
    changes: z.string().nullable().describe('The column that is looked at for changes, for live readers'),
    writable: z.boolean(),
    columns: z.array(z.object({ field: z.string(), column: z.string() })),
    indexed: z.array(z.string()).describe('Fields with an index of their own there'),
    cannot: z.array(z.string()).describe('What it cannot do, in words'),
    readiness: z.array(z.object({ what: z.string(), ready: z.boolean(), text: z.string() })),
    checkedAt: time.nullable(),
  })
  .meta({ id: 'OutsideFacts' });
export type OutsideFacts = z.output<typeof outsideFacts>;

const dropped = z
  .object({ column: z.string(), name: z.string(), type: z.enum(FIELD_TYPES), at: time, until: time })
  .meta({ id: 'DroppedField' });
export const collection = z
  .object({
    name: z.string(),
    fields: z.array(namedField),
    rules: z.object({ read: z.string(), create: z.string(), update: z.string(), delete: z.string() }),
    records: z.int().describe('Number of records; an estimate above 100,000'),
    bytes: z.int().describe('Size with indexes, estimated'),
    grownBy: z.int().nullable().describe('Records more than seven days ago, or than on the first day that was counted'),
    indexes: z.array(index),
    dropped: z.array(dropped).describe('Dropped fields whose values can still be restored'),
    createdAt: time,
    outside: outsideFacts.optional().describe('Of a table on another server: where it stands, and what it cannot do'),
  })
  .meta({ id: 'Collection' });
export type Collection = z.infer<typeof collection>;

const change = z.discriminatedUnion('change', [
  z.strictObject({ change: z.literal('add'), name: collectionName, field }),
  z.strictObject({ change: z.literal('set'), name: collectionName, field }),
  z.strictObject({ change: z.literal('rename'), name: collectionName, to: collectionName }),
  z.strictObject({ change: z.literal('drop'), name: collectionName }),
  z.strictObject({ change: z.literal('recover'), column: z.string().max(64), as: collectionName.optional() }),
]);
export type SchemaChange = z.output<typeof change>;
const preview = z
  .object({
    change,
    fits: z.int().describe('Records that fit the change'),
    misfits: z.int().describe('Records that do not'),
    examples: z.array(z.object({ id: recordId, value: json, problem: z.string() })).describe('Up to five that do not'),
    notes: z.array(z.string()).describe('What else the change affects'),
    blocked: z.string().nullable().describe('Why the change is not possible, or null'),
  })
  .meta({ id: 'ChangePreview' });
export type ChangePreview = z.output<typeof preview>;
const misfits = z
  .enum(['refuse', 'clear'])
  .default('refuse')
  .describe('What happens to values that do not fit: refuse the change, or clear them');

export const explained = z
  .object({
    text: z.string(),
    result: z.boolean().nullable().describe('null is unknown'),
    decided: z.boolean().describe('Whether it decided the result'),
    get parts() {
      return z.array(explained).optional();
    },
  })
  .meta({ id: 'Explained' });

const advice = z
  .object({
    form: z.string().describe('What the lists have in common: the fields they compare and sort by'),
    example: z.string().describe('The filter and sort of one of them'),
    calls: z.int(),
    meanMs: z.number(),
    worstMs: z.number(),
    lastAt: time,
    propose: z
      .object({ fields: z.array(z.string()), kind: z.enum(['order', 'place']) })
      .nullable()
      .describe('The index that would serve them'),
    servedBy: z.string().nullable().describe('The index that serves them now'),
    before: z.object({ calls: z.int(), meanMs: z.number() }).nullable().describe('What they cost before that index existed'),
  })
  .meta({ id: 'Advice' });
export type Advice = z.output<typeof advice>;

const view = z
  .object({
    id: uuid,
    name: z.string(),
    query: z.string().describe("Filter, sort and columns as the query of the console's address"),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'View' });
export type View = z.output<typeof view>;

export const IMPORT_FORMATS = { csv: 'text/csv', ndjson: 'application/x-ndjson', geojson: 'application/geo+json' } as const;
const formats = z.enum(['csv', 'ndjson', 'geojson']);
const importReport = z
  .object({
    stored: z.int(),
    rejected: z.int(),
    rejects: z.array(z.object({ line: z.int(), reason: z.string(), row: z.string() })).describe('The first hundred'),
    delimiter: z.string().optional().describe('The detected delimiter of a CSV file, unless it is a comma'),
    byKey: z
      .object({ created: z.int(), changed: z.int(), same: z.int().describe('Rows that say what stands there already') })
      .optional()
      .describe('With `key`: what became of the rows that fit, or would'),
  })
  .meta({ id: 'ImportReport' });
export type ImportReport = z.output<typeof importReport>;

const params = environmentParams.extend({ collection: collectionName });
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const ONE = `${ENVIRONMENT}/collections/{collection}`;

export const collectionOperations = {
  list: operation({
    id: 'collections.list',
    command: 'collection list',
    method: 'GET',
    path: `${ENVIRONMENT}/collections`,
    summary: 'Collections with their fields, rules and sizes',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(collection) }),
  }),
  read: operation({
    id: 'collections.read',
    command: 'collection show',
    method: 'GET',
    path: ONE,
    summary: 'One collection',
    caller: viewer,
    params,
    reply: collection,
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  create: operation({
    id: 'collections.create',
    changes: 'collection',
    method: 'POST',
    path: `${ENVIRONMENT}/collections`,
    summary: 'Create a collection, readable and writable by record owners only',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      name: collectionName,
      fields: z.array(namedField).max(200).optional(),
      rules: z.strictObject(rules).partial().optional(),
    }),
    status: 201,
    reply: collection,
    problems: ['already-exists', 'malformed-filter'],
  }),
  patch: operation({
    id: 'collections.patch',
    changes: 'collection',
    method: 'PATCH',
    path: ONE,
    summary: 'Change access rules, or add fields',
    caller: developer,
    params,
    body: z.strictObject({ rules: z.strictObject(rules).partial().optional(), addFields: z.array(namedField).max(200).optional() }),
    reply: collection,
    problems: ['collection-unknown', 'outside-unsupported', 'malformed-filter'],
  }),
  remove: operation({
    id: 'collections.remove',
    changes: 'collection',
    command: 'collection delete',
    method: 'DELETE',
    path: ONE,
    summary: 'Delete a collection with all of its records',
    caller: developer,
    params,
    status: 204,
    reply: nothing,
    problems: ['collection-unknown', 'outside-unsupported', 'still-referenced'],
  }),
  tryRule: operation({
    id: 'collections.tryRule',
    changes: 'nothing',
    method: 'POST',
    path: `${ONE}/rules/try`,
    summary: 'Whether a rule allows a user an action on a record, and which part decides',
    caller: viewer,
    params,
    body: z.strictObject({
      action: z.enum([...RECORD_ACTIONS, 'see', 'set']).describe('`see` and `set` are of one field'),
      field: z.string().max(63).optional().describe('The field to see or set'),
      user: uuid.nullable().describe('A user of the environment; null without a signed-in user'),
      roles: z.array(z.string().max(100)).max(50).optional().describe("Instead of the user's own"),
      record: z.union([recordId, jsonObject]).describe('The id of a record, or one to be written'),
      rule: rule.optional().describe('Instead of the current rule'),
    }),
    reply: z.object({ allowed: z.boolean(), rule: z.string(), explained }),
    problems: ['collection-unknown', 'outside-unsupported', 'not-found', 'malformed-filter'],
  }),
  schema: operation({
    id: 'collections.schema',
    command: 'collection schema',
    method: 'GET',
    path: `${ONE}/schema`,
    summary: 'The fields as JSON Schema 2020-12',
    caller: viewer,
    params,
    reply: jsonObject,
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  previewSchema: operation({
    id: 'collections.previewSchema',
    changes: 'nothing',
    method: 'POST',
    path: `${ONE}/schema/preview`,
    summary: 'What would change to match a JSON Schema',
    caller: developer,
    params,
    body: jsonObject,
    reply: z.object({ changes: z.array(preview) }),
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  putSchema: operation({
    id: 'collections.putSchema',
    changes: 'collection',
    method: 'PUT',
    path: `${ONE}/schema`,
    summary: 'Change the fields to match a JSON Schema; fields it does not have are dropped',
    caller: developer,
    params,
    query: z.strictObject({ misfits }),
    body: jsonObject,
    reply: jsonObject,
    problems: ['collection-unknown', 'outside-unsupported', 'records-do-not-fit'],
  }),
  previewChange: operation({
    id: 'collections.previewChange',
    changes: 'nothing',
    method: 'POST',
    path: `${ONE}/changes/preview`,
    summary: 'How many records fit a change of a field',
    caller: developer,
    params,
    body: change,
    reply: preview,
    problems: ['collection-unknown', 'outside-unsupported', 'not-found'],
  }),
  change: operation({
    id: 'collections.change',
    changes: 'collection',
    method: 'POST',
    path: `${ONE}/changes`,
    summary: 'Change, rename, drop or recover a field',
    caller: developer,
    params,
    query: z.strictObject({ misfits }),
    body: change,
    reply: collection,
    problems: ['collection-unknown', 'outside-unsupported', 'not-found', 'already-exists', 'records-do-not-fit'],
  }),
  addIndex: operation({
    id: 'collections.addIndex',
    changes: 'index',
    command: 'collection add-index <fields>',
    method: 'POST',
    path: `${ONE}/indexes`,
    summary: 'Create an index over one or more fields',
    caller: developer,
    params,
    body: z.strictObject({
      fields: z
        .array(z.string().max(300))
        .min(1)
        .max(5)
        .describe('Fields; inside an object `meta.service` for texts, `meta.seats:number`, `meta.open:boolean`'),
      search: z.boolean().optional().describe("Over the texts that `search('…')` looks into; a collection has one such index"),
      unique: z.boolean().optional().describe('No two records may have the same values; records without one of them are not compared'),
    }),
    status: 201,
    reply: index,
    problems: ['records-do-not-fit', 'collection-unknown', 'outside-unsupported', 'already-exists'],
  }),
  removeIndex: operation({
    id: 'collections.removeIndex',
    changes: 'index',
    command: 'collection drop-index',
    method: 'DELETE',
    path: `${ONE}/indexes/{index}`,
    summary: 'Drop an index',
    caller: developer,
    params: params.extend({ index: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['collection-unknown', 'outside-unsupported', 'not-found'],
  }),
  advice: operation({
    id: 'collections.advice',
    command: 'collection advice',
    method: 'GET',
    path: `${ONE}/advice`,
    summary: 'Cost of lists, and the indexes that would speed them up',
    caller: viewer,
    params,
    reply: z.object({ items: z.array(advice) }),
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  views: operation({
    id: 'collections.views',
    command: 'collection views',
    method: 'GET',
    path: `${ONE}/views`,
    summary: 'Saved views',
    caller: viewer,
    params,
    reply: z.object({ items: z.array(view) }),
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  saveView: operation({
    id: 'collections.saveView',
    changes: 'view',
    method: 'POST',
    path: `${ONE}/views`,
    summary: 'Save a view for the whole team, or replace the one of that name',
    caller: developer,
    params,
    body: z.strictObject({ name: z.string().trim().min(1).max(80), query: z.string().max(4000) }),
    status: 201,
    reply: view,
    problems: ['collection-unknown', 'outside-unsupported'],
  }),
  removeView: operation({
    id: 'collections.removeView',
    changes: 'view',
    command: 'collection forget-view',
    method: 'DELETE',
    path: `${ONE}/views/{view}`,
    summary: 'Delete a saved view',
    caller: developer,
    params: params.extend({ view: uuid }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  importRecords: operation({
    id: 'collections.import',
    changes: 'record',
    method: 'POST',
    path: `${ONE}/import`,
    summary: 'Store the rows of a CSV, NDJSON or GeoJSON file',
    caller: developer,
    params,
    query: z.strictObject({
      format: formats,
      strict: z.stringbool().default(false).describe('Store nothing if any row does not fit'),
      check: z.stringbool().default(false).describe('Only check the rows, store nothing'),
      key: z
        .string()
        .max(300)
        .optional()
        .describe('Fields, separated by commas: a row with the values of a record there changes it, any other creates one. Or `id`'),
      columns: z
        .string()
        .max(16_000)
        .optional()
        .describe('JSON: column of the file to field, to null to leave it out, or to `field.longitude` and `field.latitude`'),
      progress: z
        .stringbool()
        .default(false)
        .describe('Respond with NDJSON: progress lines with `stored` and `rejected`, a line for each `reject`, and the `report`'),
    }),
    rawBody: Object.values(IMPORT_FORMATS),
    reply: importReport,
    problems: ['collection-unknown', 'outside-unsupported', 'import-refused'],
  }),
  exportRecords: operation({
    id: 'collections.export',
    command: 'record export',
    method: 'GET',
    path: `${ONE}/export`,
    summary: 'The records as CSV, NDJSON or GeoJSON',
    caller: viewer,
    params,
    query: z.strictObject({ format: formats, filter: z.string().max(16_000).optional(), fields: z.string().max(4000).optional() }),
    reply: z.string(),
    replyTypes: Object.values(IMPORT_FORMATS),
    problems: ['collection-unknown', 'outside-unsupported', 'malformed-filter'],
  }),
};
