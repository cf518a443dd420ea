import { type JsonObject, operationsIn, pathTypes } from '@orchard/core';
import { z } from 'zod';
import type { Capability } from '../../platform/capability.js';
import { CallRefused } from '../functions/callRefused.js';
import { demand } from '../functions/demand.js';
import { UpstreamDirectory } from './directory.js';
import { readBody } from './managing.js';
import type { Parts } from './parts.js';
import { upstreamRoutes } from './routes.js';
import { UpstreamStore } from './store.js';

const OPTIONS = z.strictObject({
  method: z.enum(['GET', 'POST', 'PUT', 'PATCH', 'DELETE']).default('GET'),
  query: z.record(z.string(), z.union([z.string(), z.number(), z.boolean()])).default({}),
  headers: z.record(z.string(), z.string()).default({}),
  body: z.unknown().optional(),
});

export function upstreams(parts: Parts): Capability {
  const store = new UpstreamStore();
  const directory = new UpstreamDirectory(parts, store);
  parts.functionPorts.upstream = async ({ environment, author, userId }, name, path, given) => {
    const upstream = await directory.find(environment, name);
    if (!upstream) throw new CallRefused(`There is no upstream ${name} in this environment.`);
    const { query, ...options } = demand(OPTIONS, given ?? {}, 'options');
    const texts = Object.fromEntries(Object.entries(query).map(([key, value]) => [key, String(value)]));
    const order = { ...options, path, query: texts, body: options.body, userId, trace: author.origin?.trace ?? null };
    const { status, headers, body, cached } = await upstream.call(order);
    const text = body.toString();
    const { 'set-cookie': _, ...shown } = headers;
    const json = readBody(body);
    return { status, headers: shown, text, json: typeof json === 'string' && json === text ? null : json, cached };
  };
  parts.functionPorts.addresses = async (environment) =>
    [...(await directory.all(environment)).values()].flatMap(({ row, definition }) =>
      definition.operations.flatMap(({ name, method, path, callers }) =>
        callers === 'nobody' ? [] : [{ id: `${row.name}.${name}`, method, path: `/app/v1/upstreams/${row.name}${path}`, callers }],
      ),
    );
  parts.functionPorts.types = async (environment) => {
    const types = [...(await directory.all(environment)).values()].map(({ row, definition }) => {
      const described = row.description === null ? [] : operationsIn(JSON.parse(row.description) as JsonObject);
      const paths = described.length > 0 ? [...described, ...definition.operations].map((one) => one.path) : [];
      return `  ${JSON.stringify(row.name)}: ${pathTypes(paths)};`;
    });
    return `interface Upstreams {\n${types.join('\n')}\n}`;
  };
  return {
    name: 'upstreams',
    routes: upstreamRoutes(parts, store, directory),
    forget: (environment) => directory.forget(environment),
    stop: () => directory.close(),
  };
}
