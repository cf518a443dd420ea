// Writes src/calls.ts: method and path of each operation that an app can call. The contract as a whole, with its schemas and
// texts, would be ten times the library.
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '../contract/dist/index.js';

/** Calls that change nothing, or that the service counts once, though their method says neither (RFC 9110 section 9.2.2). */
const REPEATABLE = ['records.query', 'records.querySummary', 'sync.pull', 'sync.push', 'events.bring'];
const IDEMPOTENT = ['GET', 'HEAD', 'PUT', 'DELETE'];

const lines = Object.entries(operations).flatMap(([group, own]) =>
  Object.entries(own)
    .filter(([, { caller, path }]) => path.startsWith('/app/') && (caller.kind === 'app' || caller.kind === 'anyone'))
    .map(([name, { method, path, retrySafe }]) => {
      const id = `${group}.${name}`;
      const again = retrySafe ? ' key' : IDEMPOTENT.includes(method) || REPEATABLE.includes(id) ? ' again' : '';
      return `  '${id}': '${method} ${path.slice('/app/v1/'.length)}${again}',`;
    }),
);
export const text = `/**
 * Method and path below \`/app/v1/\` of each call, made from the contract by \`node packages/client/calls.mjs\`. \`again\`: it may be
 * repeated as it is; \`key\`: with an Idempotency-Key.
 */
export const CALLS = {
${lines.join('\n')}
} as const;
`;
if (process.argv[1] === import.meta.filename) writeFileSync(join(import.meta.dirname, 'src/calls.ts'), text);
