/** Setup as a file: what an environment should be, what would change, and how it was changed before. */
import { SETUP_TEMPLATES } from '@orchard/core/words';
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, jsonObject, listQuery, operation, slug, time, uuid } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const AT = `${ENVIRONMENT}/setup`;
const json = z.unknown();
const digest = z.string().max(100);
/** A hundred collections and fifty functions with their files. */
const LARGE = 20_000_000;

const effect = z.object({
  text: z.string(),
  loses: z.boolean().describe('Whether data is lost by it'),
  lockMs: z.number().describe('How long writers may wait'),
  records: z.int().optional(),
  examples: z.array(z.object({ id: z.string(), value: json, problem: z.string() })).optional(),
});
const change = z
  .object({
    kind: z.string(),
    name: z.string().describe('Empty for what an environment has once'),
    action: z.enum(['make', 'change', 'drop']),
    before: jsonObject.nullable(),
    after: jsonObject.nullable(),
    points: z
      .array(z.object({ path: z.array(z.string()), before: json.optional(), after: json.optional() }))
      .describe('What differs inside a changed part'),
    renames: z.record(z.string(), z.string()).describe('Former names of fields, by the new ones'),
    effects: z.array(effect).describe('What it does to data'),
    uses: z
      .array(z.object({ by: z.string(), calls: z.int(), lastAt: time }))
      .describe('Clients and functions that were seen to use what is dropped or renamed'),
    blocked: z.string().nullable().describe('Why it cannot be applied'),
    hints: z.array(z.string()),
  })
  .meta({ id: 'SetupChange' });
const difference = z
  .object({
    base: digest.describe('Of the setup that was compared with: applying refuses when it is another one by then'),
    changes: z.array(change),
    steps: z.array(z.string()).describe('What happens, in this order'),
    loses: z.boolean().describe('Whether data would be lost'),
  })
  .meta({ id: 'SetupDifference' });
export type SetupDifferenceDocument = z.output<typeof difference>;

const source = {
  setup: jsonObject.optional().describe('A setup file as JSON'),
  from: z.strictObject({ app: slug, environment: slug }).optional().describe('Or another environment, to promote from'),
  template: z.enum(SETUP_TEMPLATES).optional().describe('Or a template'),
  release: uuid.optional().describe('Or the setup as it was before that release'),
  only: z
    .array(z.string().max(300))
    .max(1000)
    .default([])
    .describe('Kinds such as `topics`, or parts such as `topics/ridge`; all if empty'),
};
const STATES = ['proposed', 'running', 'done', 'returning', 'returned', 'refused', 'failed'] as const;
const release = z
  .object({
    id: uuid,
    state: z
      .enum(STATES)
      .describe('`proposed` waits for a second member; `returning` goes back after a step failed; `failed` could not even do that'),
    by: actor,
    at: time,
    why: z.string(),
    from: z.string().nullable().describe('The environment it was promoted from, or the template'),
    decidedBy: actor.nullable().describe('The second member'),
    decision: z.string().nullable().describe('What they said'),
    done: z.int().describe('Steps that are done'),
    total: z.int(),
    doing: z.string().nullable(),
    problem: z.string().nullable().describe('Why it went back, or failed'),
    endedAt: time.nullable(),
    counts: z.object({ make: z.int(), change: z.int(), drop: z.int() }),
  })
  .meta({ id: 'Release' });
export type ReleaseDocument = z.output<typeof release>;
const whole = release.extend({ difference, setup: jsonObject.describe('The wanted setup') }).meta({ id: 'ReleaseWithDifference' });
const ofRelease = environmentParams.extend({ release: uuid });
const refusals = ['setup-invalid', 'setup-changed', 'not-found', 'access-refused'] as const;

export const setupOperations = {
  read: operation({
    id: 'setups.read',
    method: 'GET',
    path: AT,
    summary: 'The setup of an environment, as in a setup file',
    caller: viewer,
    packed: true,
    params: environmentParams,
    reply: z.object({
      setup: jsonObject,
      digest,
      departs: z
        .array(z.object({ kind: z.string(), name: z.string(), action: z.enum(['make', 'change', 'drop']) }))
        .nullable()
        .describe('Parts that were changed by hand since the last release; null before the first one'),
    }),
    problems: ['setup-changed'],
  }),
  compare: operation({
    id: 'setups.compare',
    changes: 'nothing',
    method: 'POST',
    path: `${AT}/compare`,
    summary: 'What applying a setup would make, change and drop, and what it would do to data and to clients in use',
    caller: developer,
    packed: true,
    bodyLimit: LARGE,
    params: environmentParams,
    body: z.strictObject(source),
    reply: difference,
    problems: [...refusals],
  }),
  apply: operation({
    id: 'setups.apply',
    changes: 'setup',
    method: 'POST',
    path: `${AT}/apply`,
    summary: 'Apply a setup: to its end, or back to where it was. Where the environment asks for it, a second member approves it first',
    caller: maintainer,
    bodyLimit: LARGE,
    params: environmentParams,
    body: z.strictObject({
      ...source,
      base: digest.optional().describe('Of the comparison: refuses where the setup is another one by now'),
      why: z.string().trim().max(1000).default(''),
      loseData: z.boolean().default(false).describe('Apply it although data is lost'),
    }),
    status: 202,
    reply: release,
    problems: [...refusals, 'setup-in-progress', 'setup-loses-data'],
  }),
  sample: operation({
    id: 'setups.sample',
    changes: 'setup',
    command: 'setup sample',
    method: 'POST',
    path: `${AT}/sample`,
    summary: 'Copy some records of another environment into collections that are empty here; what says something of a person is made up',
    caller: developer,
    progress: true,
    params: environmentParams,
    body: z.strictObject({
      from: z.string().regex(/^[a-z][a-z0-9-]{0,38}\/[a-z][a-z0-9-]{0,38}$/, 'App and environment, such as quillfell-hiker/live.'),
      records: z.int().min(1).max(1000).default(100).describe('At most so many of each collection, the latest'),
    }),
    reply: z.object({
      users: z.int().describe('Made-up users, who stand for those of the records'),
      collections: z.array(
        z.object({
          name: z.string(),
          stored: z.int(),
          rejected: z.int().describe('That did not fit, such as those that refer to a record outside the sample'),
          left: z.boolean().describe('Had records already, and was left alone'),
        }),
      ),
    }),
    problems: ['not-found'],
  }),
  settings: operation({
    id: 'setups.settings',
    command: 'setup settings',
    method: 'GET',
    path: `${AT}/settings`,
    summary: 'Whether releases need a second member',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ approval: z.boolean() }),
  }),
  changeSettings: operation({
    id: 'setups.changeSettings',
    command: 'setup demand',
    changes: 'setup',
    method: 'PATCH',
    path: `${AT}/settings`,
    summary: 'Have a second member approve each release, or not',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ approval: z.boolean() }),
    reply: z.object({ approval: z.boolean() }),
  }),
  releases: operation({
    id: 'setups.releases',
    command: 'release list',
    method: 'GET',
    path: `${AT}/releases`,
    summary: 'How the setup was changed, latest first: who, why, and what came of it',
    caller: viewer,
    params: environmentParams,
    query: listQuery.pick({ limit: true }),
    reply: z.object({ items: z.array(release) }),
  }),
  release: operation({
    id: 'setups.release',
    method: 'GET',
    path: `${AT}/releases/{release}`,
    summary: 'One release, with its difference',
    caller: viewer,
    packed: true,
    params: ofRelease,
    reply: whole,
    problems: ['not-found'],
  }),
  decide: operation({
    id: 'setups.decide',
    changes: 'setup',
    method: 'POST',
    path: `${AT}/releases/{release}/decision`,
    summary: 'Approve or refuse a proposed release, as somebody else than who proposed it',
    caller: maintainer,
    params: ofRelease,
    body: z.strictObject({ approve: z.boolean(), comment: z.string().trim().max(1000).default('') }),
    reply: release,
    problems: ['not-found', 'wrong-state', 'access-refused', 'setup-in-progress', 'setup-changed'],
  }),
};
