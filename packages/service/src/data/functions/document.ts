/** The endpoints of an environment, as a document for tools. */
import { type DocumentedCall, endpointDocument, type JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Ground } from './ground.js';
import type { Parts } from './parts.js';
import { type FunctionRow, held } from './rows.js';

/** The endpoints in force, and further addresses of the team that apps call. */
export async function documentOf(parts: Parts, { store }: Ground, environment: Environment): Promise<JsonObject> {
  const rows = (await store.list(environment)).filter(({ kind, version }) => kind === 'endpoint' && version > 0);
  const calls = [...rows.flatMap(documented), ...(await parts.functionPorts.addresses(environment))];
  return endpointDocument(`${environment.app}, ${environment.name}`, parts.address(), calls);
}

const documented = ({ name, path, methods, callers, input, output }: FunctionRow): DocumentedCall[] =>
  held<string[]>(methods).map((method) => ({
    id: `${name}.${method.toLowerCase()}`,
    method,
    path: `/app/v1/endpoints/${path}`,
    callers: callers as DocumentedCall['callers'],
    input: input && held<JsonObject>(input),
    output: output && held<JsonObject>(output),
  }));

/** Method and path of each endpoint in force. */
export async function endpointsOf({ store }: Pick<Ground, 'store'>, environment: Environment): Promise<string[]> {
  const rows = (await store.list(environment)).filter(({ kind, version }) => kind === 'endpoint' && version > 0);
  return rows.flatMap(({ path, methods }) => held<string[]>(methods).map((method) => `${method} ${path}`)).sort();
}
