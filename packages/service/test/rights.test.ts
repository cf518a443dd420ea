/**
 * Who may call what: every operation of the contract, against every kind of caller, role and tenant. The table is made of the
 * contract; a call that says less than it should fails here.
 */
import { randomUUID } from 'node:crypto';
import {
  type AnyOperation,
  addressOf,
  allOperations,
  operations,
  type ProblemName,
  type Role,
  ROLES,
  type Scope,
  SCOPES,
} from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let elsewhere: TestApp;
let userToken = '';
const ONE_SCOPE = SCOPES.at(-1) as Scope;
/** What a caller sends, by name. */
const callers: Record<string, Record<string, string>> = {};

/** What says that a caller may not call: everything else means that the call was looked at. */
const REFUSALS = new Set<string>([
  'key-missing',
  'key-mistyped',
  'key-unknown',
  'key-wrong-kind',
  'scope-missing',
  'token-missing',
  'token-invalid',
  'token-expired',
  'session-ended',
  'member-sign-in-needed',
  'role-insufficient',
] satisfies ProblemName[]);

async function memberWith(role: Role, on: TestApp): Promise<string> {
  const email = `${role}-${on.name}@quillfell.example`;
  const roles = (['dev', 'live'] as const).map((environment) => ({ app: on.name, environment, role }));
  await test.owner.call(operations.members.add, { body: { name: role, email, password: PASSWORD, roles } });
  const { token } = await test.owner.call(operations.members.signIn, { body: { email, password: PASSWORD, as: 'token' } });
  return `Bearer ${token}`;
}

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  elsewhere = await makeApp(test, 'other-hiker');
  userToken = (await signUp(test, app.dev.clientKey, 'runa')).token;
  const bare = await test.owner.call(operations.clients.createKey, {
    params: { ...app.dev.params, client: 'office' },
    body: { name: 'bare', scopes: [ONE_SCOPE] },
  });
  Object.assign(callers, {
    nobody: {},
    'a client key': { 'orchard-key': app.dev.clientKey },
    'a client key with a user': { 'orchard-key': app.dev.clientKey, authorization: `Bearer ${userToken}` },
    'a client key with a user of another environment': { 'orchard-key': app.live.clientKey, authorization: `Bearer ${userToken}` },
    'a server key': { 'orchard-key': app.dev.serverKey },
    'a server key with one scope': { 'orchard-key': bare.key as string },
    'a member of another app': { authorization: await memberWith('owner', elsewhere) },
  });
  for (const role of ROLES) callers[`a member who is ${role}`] = { authorization: await memberWith(role, app) };
});
afterAll(() => test.stop());

/** A path that names the environment, and otherwise nothing that is there. */
const pathOf = (operation: AnyOperation): string =>
  addressOf(operation, {
    params: new Proxy({} as Record<string, unknown>, {
      get: (_, name) =>
        (({ app: app.name, environment: 'dev', digest: '0'.repeat(64) }) as Record<string, string>)[String(name)] ?? randomUUID(),
    }),
  });

/** Sends nothing that could be done: unknown parameters, and a body that is no JSON. */
async function refusalOf(operation: AnyOperation, caller: string): Promise<string | null> {
  const hasBody = operation.body !== undefined || operation.rawBody !== undefined;
  const reply = await fetch(`${test.address}${pathOf(operation)}?not-there=1`, {
    method: operation.method,
    headers: { ...callers[caller], ...(hasBody ? { 'content-type': 'application/json' } : {}) },
    ...(hasBody ? { body: '{' } : {}),
  });
  const text = !reply.headers.get('content-type')?.includes('problem') ? '' : await reply.text();
  await reply.body?.cancel().catch(() => undefined);
  const problem = text ? (JSON.parse(text).type as string).split('/').at(-1) : null;
  return problem && REFUSALS.has(problem) ? problem : null;
}

/** What the contract says; `undefined` where it leaves it to what the call is about. */
function expected({ caller }: AnyOperation, who: string): string | null | undefined {
  const isMember = who.startsWith('a member');
  switch (caller.kind) {
    case 'anyone':
      return undefined;
    case 'server':
      if (who === 'nobody' || isMember) return 'key-missing';
      if (who.startsWith('a client key')) return 'key-wrong-kind';
      return who === 'a server key' || caller.scope === ONE_SCOPE ? null : 'scope-missing';
    case 'app':
      if (who === 'nobody' || isMember) return 'key-missing';
      if (who === 'a client key') return caller.user === 'required' ? 'token-missing' : null;
      if (who === 'a client key with a user') return null;
      if (who.startsWith('a client key')) return 'token-invalid';
      if (!caller.scope) return 'key-wrong-kind';
      return who === 'a server key' || caller.scope === ONE_SCOPE ? undefined : 'scope-missing';
    case 'member': {
      // Members by their roles: see below.
      return isMember ? undefined : 'member-sign-in-needed';
    }
  }
}

/** Members by the role that they have where the path leads. */
function expectedOfMember({ caller, path }: AnyOperation, role: Role | null): string | null {
  if (caller.kind !== 'member') return null;
  const inEnvironment = path.includes('{app}') && path.includes('{environment}');
  // Of the installation: only its owners are more than viewers.
  const held: Role | null = inEnvironment ? role : 'viewer';
  if (held === null) return 'role-insufficient';
  return ROLES.indexOf(held) >= ROLES.indexOf(caller.role) ? null : 'role-insufficient';
}

/** Reads, and calls that fail by what they were sent: nothing is done by them. */
const isHarmless = ({ method, body, stream }: AnyOperation): boolean =>
  !stream && (method === 'GET' || method === 'HEAD' || body !== undefined);

// A response to HEAD has no body that could say why.
describe.each(allOperations.filter(({ method }) => method !== 'HEAD').map((operation) => [operation.id, operation] as const))(
  '%s',
  (_id, operation) => {
    it('is answered to those whom the contract names, and refused to all others', async () => {
      const found: Record<string, string | null> = {};
      const wanted: Record<string, string | null> = {};
      for (const who of Object.keys(callers)) {
        const isMember = operation.caller.kind === 'member' && who.startsWith('a member');
        const role = ROLES.find((one) => who === `a member who is ${one}`) ?? null;
        const should = isMember ? expectedOfMember(operation, role) : expected(operation, who);
        if (should === undefined || (should === null && !isHarmless(operation))) continue;
        wanted[who] = should;
        found[who] = await refusalOf(operation, who);
      }
      expect(found).toEqual(wanted);
    });
  },
);

it('asks nobody for scopes that do not exist', () => {
  for (const { caller, id } of allOperations)
    if ('scope' in caller && caller.scope) expect([id, SCOPES.includes(caller.scope)]).toEqual([id, true]);
});
