import { LOG_LEVELS } from '@orchard/core/words';
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, jsonObject, listQuery, operation, page, time } from '../common.js';

const level = z.enum(LOG_LEVELS);
const source = z
  .string()
  .regex(/^[a-z][a-z0-9 ._:-]{0,59}$/, 'A lower-case letter, then up to 59 lower-case letters, digits, spaces, ., _, : or -.');

const appError = z.strictObject({
  name: z.string().max(200).describe('Such as TypeError'),
  message: z.string().max(4_000).default(''),
  stack: z.string().max(20_000).optional(),
  version: z.string().max(40).optional().describe('Of the app'),
});

const newEntry = z.strictObject({
  at: time.optional().describe('Default: when it arrives'),
  level: level.default('info'),
  text: z.string().max(100_000).describe('Kept up to 4,000 characters'),
  fields: jsonObject.optional(),
  trace: z
    .string()
    .regex(/^[0-9a-f]{32}$/, 'A trace id: 32 hexadecimal digits.')
    .optional(),
  error: appError.optional().describe('An unhandled error; such errors are gathered by their likely cause'),
});
export type NewLogEntry = z.output<typeof newEntry>;

const entry = z
  .object({
    id: z.string(),
    at: time,
    level,
    source: z.string().describe('`app` and the client, `gateway` and its name, `job` and its kind, or `service`'),
    text: z.string(),
    fields: jsonObject.nullable(),
    trace: z.string().nullable(),
    deviceId: z.string().nullable(),
    userId: z.string().nullable(),
    version: z.string().nullable(),
    error: z.string().nullable().describe('Id of the group of errors it belongs to'),
  })
  .meta({ id: 'LogEntry' });
export type LogEntry = z.infer<typeof entry>;

const levels = z
  .object({
    levels: z.record(z.string(), level).describe('The least level kept, by source; `*` for all others'),
    raised: z.array(z.object({ source: z.string(), level, until: time })).describe('Sources that keep more for a while'),
    days: z.int().describe('How long entries are kept'),
  })
  .meta({ id: 'LogLevels' });
export type LogLevels = z.infer<typeof levels>;

const errorGroup = z
  .object({
    id: z.string(),
    name: z.string(),
    message: z.string(),
    place: z.string().describe('Where it arose: the first place in the team’s own code'),
    count: z.int(),
    people: z.int().describe('Users, and devices without one'),
    versions: z.array(z.string()).describe('Versions of the app it was seen in'),
    firstAt: time,
    lastAt: time,
    state: z.enum(['open', 'settled', 'come back']),
    settledAt: time.nullable(),
    settledIn: z.string().nullable().describe('The version that settles it'),
  })
  .meta({ id: 'ErrorGroup' });
export type ErrorGroup = z.infer<typeof errorGroup>;

const sourceMap = z
  .object({ version: z.string(), file: z.string(), sources: z.int().describe('Files it leads back to'), at: time })
  .meta({ id: 'SourceMap' });

const searched = listQuery.extend({
  text: z.string().max(200).optional().describe('Free text, in any case'),
});
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;

export const logOperations = {
  add: operation({
    id: 'log.add',
    library: 'log({body.entries})',
    method: 'POST',
    path: '/app/v1/log',
    summary: 'Bring log entries of an app, up to 100 at once',
    caller: { kind: 'app', user: 'optional' },
    body: z.strictObject({ entries: z.array(newEntry).min(1).max(100) }),
    status: 202,
    reply: z.object({
      kept: z.int(),
      below: z.int().describe('Entries below the level that is kept'),
    }),
    problems: ['rate-exceeded'],
  }),
  list: operation({
    id: 'log.list',
    command: 'log list',
    method: 'GET',
    path: `${ENVIRONMENT}/log`,
    summary: 'Log entries of service, gateways, jobs and apps, latest first',
    caller: viewer,
    params: environmentParams,
    query: searched.extend({
      around: z.string().max(64).optional().describe('Entries before and after this one, by its id'),
      requests: z
        .enum(['true', 'false'])
        .optional()
        .describe('`true`: recorded requests among them, in order of time, with the source `request`'),
    }),
    reply: page(entry),
    problems: ['malformed-filter', 'not-found'],
  }),
  export: operation({
    id: 'log.export',
    command: 'log export',
    method: 'GET',
    path: `${ENVIRONMENT}/log/file`,
    summary: 'The same entries as NDJSON',
    caller: viewer,
    params: environmentParams,
    query: searched.omit({ cursor: true, limit: true }),
    reply: z.string(),
    replyTypes: ['application/x-ndjson'],
    problems: ['malformed-filter'],
  }),
  levels: operation({
    id: 'log.levels',
    command: 'log levels',
    method: 'GET',
    path: `${ENVIRONMENT}/log/levels`,
    summary: 'Which entries are kept, by source',
    caller: viewer,
    params: environmentParams,
    reply: levels,
  }),
  changeLevels: operation({
    id: 'log.changeLevels',
    changes: 'log levels',
    method: 'PATCH',
    path: `${ENVIRONMENT}/log/levels`,
    summary: 'Set the level of a source, for good or for some minutes, and how long entries are kept',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      source: z.union([z.literal('*'), source]).optional(),
      level: level.optional(),
      minutes: z.int().min(1).max(1_440).optional().describe('Raised for so long, then back by itself'),
      days: z.int().min(1).max(400).optional(),
    }),
    reply: levels,
  }),
  errors: operation({
    id: 'errors.list',
    command: 'error list',
    method: 'GET',
    path: `${ENVIRONMENT}/errors`,
    summary: 'Unhandled errors of apps by likely cause, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(errorGroup),
    problems: ['malformed-filter'],
  }),
  sourceMaps: operation({
    id: 'sourceMaps.list',
    command: 'source-map list',
    method: 'GET',
    path: `${ENVIRONMENT}/source-maps`,
    summary: 'Source maps by version and file, latest first',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(sourceMap) }),
  }),
  putSourceMap: operation({
    id: 'sourceMaps.put',
    changes: 'source map',
    method: 'PUT',
    path: `${ENVIRONMENT}/source-maps`,
    summary: 'Bring the source map of a file of a version, so that stacks of its errors are readable',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      version: z.string().min(1).max(40),
      file: z.string().min(1).max(200).describe('Name of the generated file, without folders'),
      map: jsonObject.describe('A source map, version 3'),
    }),
    bodyLimit: 16_000_000,
    reply: sourceMap,
  }),
  settle: operation({
    id: 'errors.settle',
    changes: 'error',
    command: 'error settle',
    method: 'POST',
    path: `${ENVIRONMENT}/errors/{error}/settlement`,
    summary: 'Say that an error is settled, with the version that settles it; seen again in that or a later one, it has come back',
    caller: developer,
    params: environmentParams.extend({ error: z.string().max(64) }),
    body: z.strictObject({ version: z.string().max(40).optional() }),
    reply: errorGroup,
    problems: ['not-found'],
  }),
};
