/** The OpenAPI 3.1 document, from the same schemas that check the calls. */
import { z } from 'zod';
import type { AnyOperation, Caller } from './operation.js';
import { PROBLEMS, type ProblemName, problemSchema } from './problems.js';

type Schema = Record<string, unknown>;

/** Named schemas, which appear once under components. */
type Components = Record<string, Schema>;

/** JSON Schema of a Zod schema; named schemas in it move to `components` and are referenced. */
function toSchema(schema: z.ZodType, io: 'input' | 'output', components: Components): Schema {
  const { $schema: _, ...whole } = z.toJSONSchema(schema, { io, unrepresentable: 'any', target: 'draft-2020-12' }) as Schema;
  const { $defs = {}, ...rest } = JSON.parse(JSON.stringify(whole).replaceAll('"#/$defs/', '"#/components/schemas/')) as Schema & {
    $defs?: Components;
  };
  Object.assign(components, $defs);
  return rest;
}

const security: Record<Caller['kind'], Record<string, string[]>[]> = {
  anyone: [],
  app: [{ key: [] }, { key: [], user: [] }],
  server: [{ key: [] }],
  member: [{ memberToken: [] }, { memberCookie: [] }],
};

function whoMayCall(caller: Caller): string {
  switch (caller.kind) {
    case 'anyone':
      return 'Anyone.';
    case 'app':
      return `A client key${caller.user === 'required' ? ' with a signed-in user' : ''}${caller.scope ? `, or a server key with the scope \`${caller.scope}\`` : ''}.`;
    case 'server':
      return `A server key with the scope \`${caller.scope}\`.`;
    case 'member':
      return `A member with the role \`${caller.role}\` or a stronger one.`;
  }
}

function parameters(operation: AnyOperation, components: Components): Schema[] {
  const of = (schema: z.ZodObject, where: 'path' | 'query') => {
    const { properties = {}, required = [] } = toSchema(schema, 'input', components) as {
      properties?: Record<string, Schema>;
      required?: string[];
    };
    return Object.entries(properties).map(([name, shape]) => ({
      name,
      in: where,
      required: where === 'path' || required.includes(name),
      schema: shape,
      ...(shape.description ? { description: shape.description } : {}),
    }));
  };
  const headers = [...(operation.requestHeaders ?? []), ...(operation.retrySafe ? ['Idempotency-Key'] : [])].map((name) => ({
    name,
    in: 'header',
    required: false,
    schema: { type: 'string' },
  }));
  return [...of(operation.params, 'path'), ...of(operation.query, 'query'), ...headers];
}

const KEY = ['key-missing', 'key-mistyped', 'key-unknown', 'key-revoked', 'key-wrong-kind', 'scope-missing'] as const;
const BY_CALLER = {
  anyone: ['moved-installation-away'],
  app: [...KEY, 'moved-installation-away', 'origin-blocked', 'token-missing', 'token-invalid', 'token-expired', 'session-ended'],
  server: [...KEY, 'moved-installation-away'],
  member: ['member-sign-in-needed', 'token-invalid', 'csrf-refused', 'role-insufficient', 'not-found', 'environment-moved'],
} as const satisfies Record<Caller['kind'], readonly ProblemName[]>;
const WITH_BODY = ['malformed-json', 'body-too-large', 'unsupported-media-type'] as const;
const EVERYWHERE = [
  'invalid-input',
  'rate-exceeded',
  'answer-too-large',
  'answers-unread',
  'busy',
  'statement-too-slow',
  'storage-full',
  'database-unavailable',
  'unexpected',
] as const;

/** Problems of a call: its own, and those of every call of this kind of caller. */
export function problemsOf(operation: AnyOperation): ProblemName[] {
  const withBody = operation.body || operation.rawBody ? WITH_BODY : [];
  const withFilter = 'filter' in operation.query.shape ? (['malformed-filter'] as const) : [];
  const proof: ProblemName[] = [
    ...(operation.confirmed ? (['confirmation-needed'] as const) : []),
    ...(operation.ownerOnly ? (['access-refused'] as const) : []),
  ];
  return [...new Set([...operation.problems, ...BY_CALLER[operation.caller.kind], ...withBody, ...withFilter, ...proof, ...EVERYWHERE])];
}

function responses(operation: AnyOperation, components: Components): Schema {
  const headers = Object.entries(operation.replyHeaders ?? {});
  const told =
    headers.length > 0
      ? { headers: Object.fromEntries(headers.map(([name, description]) => [name, { description, schema: { type: 'string' } }])) }
      : {};
  const success =
    operation.status === 204
      ? { description: 'Done.', ...told }
      : {
          description: 'Done.',
          ...told,
          content: {
            ...(operation.replyTypes
              ? Object.fromEntries(operation.replyTypes.map((type) => [type, { schema: { type: 'string' } }]))
              : {
                  [operation.stream ? 'text/event-stream' : 'application/json']: {
                    schema: toSchema(operation.reply, 'output', components),
                  },
                  ...(operation.progress
                    ? {
                        'text/event-stream': {
                          schema: {
                            type: 'string',
                            description:
                              'After a second, where it is accepted: events `progress` with `done` and `total`, then `answer` or `problem`',
                          },
                        },
                      }
                    : {}),
                }),
          },
        };
  const result: Schema = { [operation.status]: success };
  if (operation.alsoStatus) result[operation.alsoStatus] = success;
  if (operation.anyStatus)
    result.default = { description: 'Whatever the function answers.', content: { 'application/json': { schema: {} } } };
  if (operation.notModified) result[304] = { description: 'The caller has the current version.', ...told };
  for (const name of problemsOf(operation)) {
    const { status, title } = PROBLEMS[name];
    const before = result[status] as { description: string } | undefined;
    result[status] = {
      description: `${before ? `${before.description} ` : ''}\`${name}\`: ${title}.`,
      content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } },
    };
  }
  return result;
}

/** Builds the document for the given base address. */
export function buildOpenApi(operations: readonly AnyOperation[], address: string): Schema {
  const paths: Record<string, Record<string, unknown>> = {};
  const components: Components = {};
  toSchema(problemSchema, 'output', components);
  for (const operation of operations) {
    // OpenAPI has no parameter of several segments; a plain one is the nearest.
    const path = operation.path.replace('...}', '}');
    paths[path] ??= {};
    (paths[path] as Schema)[operation.method.toLowerCase()] = {
      operationId: operation.id,
      tags: [operation.id.split('.')[0]],
      summary: operation.summary,
      description: whoMayCall(operation.caller),
      security: security[operation.caller.kind],
      parameters: parameters(operation, components),
      ...(operation.rawBody
        ? {
            requestBody: {
              required: true,
              content: Object.fromEntries(operation.rawBody.map((type) => [type, { schema: { type: 'string' } }])),
            },
          }
        : {}),
      ...(operation.body
        ? { requestBody: { required: true, content: { 'application/json': { schema: toSchema(operation.body, 'input', components) } } } }
        : {}),
      responses: responses(operation, components),
    };
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Vivid Orchard',
      version: '1',
      description: 'What apps call (/app/v1) and what teams call (/manage/v1).',
      license: { name: 'All rights reserved', identifier: 'LicenseRef-all-rights-reserved' },
    },
    servers: [{ url: address }],
    paths,
    components: {
      schemas: components,
      securitySchemes: {
        key: { type: 'apiKey', in: 'header', name: 'Orchard-Key' },
        user: { type: 'http', scheme: 'bearer' },
        memberToken: { type: 'http', scheme: 'bearer' },
        memberCookie: { type: 'apiKey', in: 'cookie', name: 'orchard_session' },
      },
    },
  };
}
