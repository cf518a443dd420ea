/** The document of a team's own addresses, by OpenAPI 3.1 (section 4.8). */
import type { JsonObject } from './json.js';

const CALLERS = {
  anyone: 'For every client key.',
  'signed-in': 'For signed-in users, and server keys.',
  servers: 'For server keys.',
} as const;
/** An address that apps call; `input` and `output` are JSON Schemas. */
export type DocumentedCall = {
  id: string;
  method: string;
  path: string;
  callers: keyof typeof CALLERS;
  summary?: string | undefined;
  input?: JsonObject | null | undefined;
  output?: JsonObject | null | undefined;
};

const content = (schema: JsonObject | null | undefined): JsonObject => ({ 'application/json': { schema: schema ?? {} } });

export function endpointDocument(title: string, address: string, calls: readonly DocumentedCall[]): JsonObject {
  const paths: Record<string, JsonObject> = {};
  for (const { id, method, path, callers, summary, input, output } of calls) {
    const parameters = [...path.matchAll(/\{([^}]+)\}/g)].map(([, name]) => ({
      name: name as string,
      in: 'path',
      required: true,
      schema: { type: 'string' },
    }));
    const takesBody = method !== 'GET' && method !== 'DELETE';
    paths[path] = {
      ...paths[path],
      [method.toLowerCase()]: {
        operationId: id,
        ...(summary ? { summary } : {}),
        description: CALLERS[callers],
        parameters,
        ...(takesBody ? { requestBody: { content: content(input) } } : {}),
        responses: {
          '200': { description: 'The answer.', content: content(output) },
          default: { description: 'A problem (RFC 9457), or whatever else it answers.' },
        },
      },
    };
  }
  return {
    openapi: '3.1.0',
    info: { title, version: '1' },
    servers: [{ url: address }],
    paths,
    components: {
      securitySchemes: { key: { type: 'apiKey', in: 'header', name: 'Orchard-Key' }, user: { type: 'http', scheme: 'bearer' } },
    },
    security: [{ key: [] }, { key: [], user: [] }],
  };
}
