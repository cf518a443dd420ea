/** Tests beside a function: each runs in a transaction that is undone, before a version is saved. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { THE_SERVICE_ITSELF } from '../records/author.js';
import type { Ground } from './ground.js';
import { functionAuthor } from './authors.js';
import { secretOf } from './secrets.js';
import type { FunctionRow } from './rows.js';

const MOST_TESTS = 50;
const TEST_FILE = /\.test\.js$/;
const ENTRY = '__tests.js';
type Tested = Pick<FunctionRow, 'name' | 'kind' | 'hosts'> & { built: Record<string, string> };
type TestResult = { count: number; name?: string; failed?: string };

/** What a handler is called with, besides what a test says. */
const EVENTS: Record<string, JsonObject> = {
  endpoint: { method: 'GET', path: '', params: {}, query: {}, body: null, caller: { kind: 'server', userId: null, roles: [] } },
  hook: {
    action: 'create',
    id: null,
    before: null,
    record: null,
    sent: {},
    query: {},
    items: [],
    value: {},
    depth: 0,
    key: 'test',
    attempt: 1,
    caller: { kind: 'server', userId: null, roles: [] },
  },
  schedule: { due: '2026-01-01T06:00:00.000Z', key: 'test', attempt: 1 },
};

/** @throws {Problem} function-refused, with the first test that fails */
export async function demandTests(ground: Ground, environment: Environment, tested: Tested): Promise<void> {
  const files = Object.keys(tested.built).filter((file) => TEST_FILE.test(file));
  if (files.length === 0) return;
  const imports = files.map((file) => `import './${file}';`).join('\n');
  const entry = `import handler from './main.js';\n${imports}\nexport default globalThis.__tester(handler);`;
  const program = { files: { ...tested.built, [ENTRY]: entry }, main: ENTRY };
  for (let number = 0, count = 1; number < Math.min(count, MOST_TESTS); number++) {
    const report = await ground.running.try({
      environment,
      name: tested.name,
      userId: null,
      program,
      hosts: tested.hosts,
      author: functionAuthor({ ...tested, rights: 'own' }, THE_SERVICE_ITSELF, 0),
      secret: secretOf(ground, environment),
      argument: { number, event: EVENTS[tested.kind] as JsonObject },
    });
    const result = report.value as TestResult | undefined;
    if (!result) throw failing(files, `The tests could not be run: ${report.error}`);
    if (result.failed !== undefined) throw failing(files, `The test "${result.name}" fails: ${result.failed}`);
    count = result.count;
  }
}

function failing([file]: string[], message: string): Problem {
  const path = `${(file as string).replace(/\.js$/, '.ts')}:1:1`;
  return new Problem('function-refused', message, { fields: [{ path, problem: message, expected: 'tests that pass' }] });
}
