import { operations, Problem, type ReleaseDocument, type Role, type SetupDifferenceDocument } from '@orchard/contract';
import { chosenParts, compareSetups, type JsonObject, type SetupDifference, type SetupParts, setupTemplate } from '@orchard/core';
import { setupKinds } from '@orchard/contract';
import { authorOf, bind, type Call, type Environment, environmentOf, type Route, type SignedInMember } from '../../platform/call.js';
import { callsOf, callsThere } from './calls.js';
import { checkApplicable, checkLosses, compare } from './comparing.js';
import type { Parts } from './parts.js';
import { asFile, comparable, digestOf, inOnePiece, readFile, readSetup } from './reading.js';
import { RELEASE_JOB } from './releasing.js';
import { takeSample } from './sampling.js';
import type { ReleaseHead, ReleaseRow, ReleaseStore } from './store.js';

type Source = {
  setup?: JsonObject | undefined;
  from?: { app: string; environment: string } | undefined;
  template?: Parameters<typeof setupTemplate>[0] | undefined;
  release?: string | undefined;
  only: string[];
};
type Ground = { parts: Parts; store: ReleaseStore };

export function setupRoutes(parts: Parts, store: ReleaseStore): Route[] {
  const own = operations.setups;
  const ground = { parts, store };
  return [
    bind(own.read, async (call) => ({ body: await readNow(ground, call as Call) })),
    bind(own.compare, async (call) => ({
      body: (await compared(ground, call as Call, call.body)).difference as SetupDifferenceDocument,
    })),
    bind(own.apply, async (call) => ({ body: await propose(ground, call as Call, call.body) }), { as: 'apart' }),
    bind(own.sample, async (call) => ({ body: await takeSample(parts, call as Call, call.body.from, call.body.records) }), { as: 'apart' }),
    bind(own.settings, async (call) => ({ body: { approval: (await store.settings(environmentOf(call))).approval } })),
    bind(
      own.changeSettings,
      async (call) => {
        await store.demandApproval(environmentOf(call), call.body.approval);
        return { body: { approval: call.body.approval } };
      },
      { read: async (call) => ({ approval: (await store.settings(environmentOf(call))).approval }) },
    ),
    bind(own.releases, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: (await store.list(environment, call.query.limit)).map((row) => present(environment, row)) } };
    }),
    bind(own.release, async (call) => {
      const environment = environmentOf(call);
      const row = await found(store, environment, call.params.release);
      const difference = JSON.parse(row.difference) as SetupDifferenceDocument;
      return { body: { ...present(environment, row), difference, setup: asFile(JSON.parse(row.wanted) as SetupParts) } };
    }),
    bind(own.decide, async (call) => ({ body: await decide(ground, call as Call, call.params.release, call.body) }), { as: 'apart' }),
  ];
}

const readerOf = (call: Pick<Call, 'member' | 'role'>) => ({ member: call.member as SignedInMember, role: call.role as Role });

async function readNow({ parts, store }: Ground, call: Call) {
  const environment = environmentOf(call);
  const now = await inOnePiece(() => readSetup(callsOf(parts, environment, readerOf(call))));
  const last = await store.lastDone(environment);
  const departs = last
    ? compareSetups(
        comparable(JSON.parse(last.wanted) as SetupParts),
        comparable(withoutOthers(now, JSON.parse(last.wanted) as SetupParts)),
        setupKinds,
      )
    : null;
  return {
    setup: asFile(now),
    digest: digestOf(now),
    departs: departs?.map(({ kind, name, action }) => ({ kind, name, action })) ?? null,
  };
}

/** Only the kinds that a release spoke of, and of settings only the members that it named. */
function withoutOthers(now: SetupParts, wanted: SetupParts): SetupParts {
  return Object.fromEntries(
    Object.entries(wanted).map(([kind, named]) => {
      const one = named[''];
      if (!one) return [kind, now[kind] ?? {}];
      const present = now[kind]?.[''] ?? {};
      return [kind, { '': Object.fromEntries(Object.keys(one).map((member) => [member, present[member] ?? null])) }];
    }),
  ) as SetupParts;
}

type Compared = { now: SetupParts; wanted: SetupParts; difference: SetupDifference };

/** The two sides of a comparison, and how they differ. @throws {Problem} setup-invalid, setup-changed, not-found, role-insufficient */
const compared = (ground: Ground, call: Call, source: Source): Promise<Compared> =>
  inOnePiece(async () => {
    const calls = callsOf(ground.parts, environmentOf(call), readerOf(call));
    const [now, given] = await Promise.all([readSetup(calls), wantedOf(ground, call, source)]);
    const wanted = chosenParts(given, now, source.only);
    return { now, wanted, difference: await compare(calls, now, wanted) };
  });

async function wantedOf({ parts, store }: Ground, call: Call, { setup, from, template, release }: Source): Promise<SetupParts> {
  if ([setup, from, template, release].filter((one) => one !== undefined).length !== 1)
    throw new Problem('setup-invalid', 'Say what is wanted by one of `setup`, `from`, `template` and `release`.');
  if (setup) return readFile(setup);
  if (template) return readFile(setupTemplate(template).setup);
  if (release) return JSON.parse((await found(store, environmentOf(call), release)).before) as SetupParts;
  const { app, environment: name } = from as { app: string; environment: string };
  return readSetup(await callsThere(parts, call.member as SignedInMember, app, name));
}

async function found(store: ReleaseStore, environment: Environment, id: string): Promise<ReleaseRow> {
  const row = await store.find(environment, id);
  if (!row) throw new Problem('not-found', `There is no release ${id} in ${environment.app}/${environment.name}.`);
  return row;
}

type Proposal = Source & { base?: string | undefined; why: string; loseData: boolean };

/** Begins a release, or proposes it to a second member. */
async function propose(ground: Ground, call: Call, body: Proposal): Promise<ReleaseDocument> {
  const { parts, store } = ground;
  const environment = environmentOf(call);
  const { now, wanted, difference } = await compared(ground, call, body);
  if (body.base !== undefined && body.base !== difference.base)
    throw new Problem('setup-changed', `The setup of ${environment.app}/${environment.name} is another one than that of the comparison.`);
  checkApplicable(difference);
  checkLosses(difference, body.loseData);
  const { approval } = await store.settings(environment);
  const row = rowOf(parts, call, difference, { now, wanted }, body, approval ? 'proposed' : 'running');
  await environment.db.unit(async () => {
    if (!approval) await begin(ground, environment, row.id);
    await store.add(environment, row);
  });
  if (!approval) await parts.jobs.wake(environment);
  return present(environment, row);
}

function rowOf(
  parts: Parts,
  call: Call,
  difference: SetupDifference,
  { now, wanted }: { now: SetupParts; wanted: SetupParts },
  { from, template, why }: Proposal,
  state: ReleaseRow['state'],
): ReleaseRow {
  const { id, email, name, owner, via } = call.member as SignedInMember;
  return {
    id: parts.newId(),
    state,
    member: { id, email, name, owner, via },
    by: authorOf(call),
    at: new Date(parts.now()),
    why,
    from: from ? `${from.app}/${from.environment}` : (template ?? null),
    decidedBy: null,
    decision: null,
    base: difference.base,
    wanted: JSON.stringify(wanted),
    before: JSON.stringify(now),
    difference: JSON.stringify(difference),
    done: 0,
    total: difference.steps.length,
    doing: null,
    problem: null,
    endedAt: null,
  };
}

/** In one transaction with what is stored of the release: a release that is named as the one under way has its job. @throws {Problem} setup-in-progress */
async function begin({ parts, store }: Ground, environment: Environment, id: string): Promise<void> {
  if (!(await store.begin(environment, id)))
    throw new Problem(
      'setup-in-progress',
      `A release is being applied to ${environment.app}/${environment.name}. Wait until it has ended.`,
    );
  await parts.jobs.add(environment.db, environment, RELEASE_JOB, id);
}

async function decide(
  ground: Ground,
  call: Call,
  id: string,
  { approve, comment }: { approve: boolean; comment: string },
): Promise<ReleaseDocument> {
  const { parts, store } = ground;
  const environment = environmentOf(call);
  const row = await found(store, environment, id);
  if (row.state !== 'proposed') throw new Problem('wrong-state', `This release is ${row.state}; only a proposed one is decided on.`);
  if (approve && row.member.id === call.member?.id)
    throw new Problem('access-refused', 'You proposed this release; somebody else approves it. You can refuse it, which takes it back.');
  const decided = { decidedBy: authorOf(call), decision: comment };
  if (!approve) {
    await store.change(environment, id, { ...decided, state: 'refused', endedAt: new Date(parts.now()) });
    return present(environment, await found(store, environment, id));
  }
  const now = await inOnePiece(() => readSetup(callsOf(parts, environment, readerOf(call))));
  if (digestOf(now) !== row.base)
    throw new Problem('setup-changed', 'The setup was changed since this release was proposed. Have it proposed anew.');
  await environment.db.unit(async () => {
    await begin(ground, environment, id);
    await store.change(environment, id, { ...decided, state: 'running' });
  });
  await parts.jobs.wake(environment);
  return present(environment, await found(store, environment, id));
}

function present({ actors }: Environment, row: ReleaseHead): ReleaseDocument {
  const { changes } = JSON.parse(row.difference) as SetupDifference;
  const count = (action: string) => changes.filter((change) => change.action === action).length;
  return {
    id: row.id,
    state: row.state,
    by: actors.show(row.by),
    at: row.at.toISOString(),
    why: row.why,
    from: row.from,
    decidedBy: row.decidedBy ? actors.show(row.decidedBy) : null,
    decision: row.decision,
    done: row.done,
    total: row.total,
    doing: row.doing,
    problem: row.problem,
    endedAt: row.endedAt?.toISOString() ?? null,
    counts: { make: count('make'), change: count('change'), drop: count('drop') },
  };
}
