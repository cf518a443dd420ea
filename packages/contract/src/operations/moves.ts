/** Moving an environment to another database server, or to another installation. */
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, operation, slug, time, uuid } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const owner = { kind: 'member', role: 'owner' } as const;
const AT = `${ENVIRONMENT}/moves`;
const server = slug.nullable().describe('By the name of the settings; null for the main one');

const move = z
  .object({
    id: uuid,
    state: z
      .enum(['copying', 'catching-up', 'switching', 'done', 'failed', 'undone'])
      .describe('`switching`: within an installation it is there already; to another one, both are agreeing that it is'),
    from: server,
    to: server,
    installation: z.string().nullable().describe('The address of the other installation; null for a move within this one'),
    by: actor,
    at: time,
    endedAt: time.nullable(),
    doing: z.string().nullable(),
    problem: z.string().nullable(),
    rows: z.int().describe('Rows that were copied'),
    caughtUp: z.int().describe('Changes that were brought over after that'),
    pauseMs: z.int().nullable().describe('How long writes were held'),
    notes: z.array(z.string()),
  })
  .meta({ id: 'Move' });
export type MoveDocument = z.output<typeof move>;

const plan = z
  .object({
    from: server,
    to: server,
    installation: z.string().nullable(),
    bytes: z.int().describe('Of its tables and indexes'),
    steps: z.array(z.string()),
    stays: z.array(z.string()).describe('What stays as it is'),
    durationMs: z.int().describe('About how long it takes'),
  })
  .meta({ id: 'MovePlan' });
export type MovePlanDocument = z.output<typeof plan>;
const installation = z
  .url({ protocol: /^https?$/, error: 'The address of an installation, such as https://orchard.example.' })
  .max(300)
  .transform((text) => text.replace(/\/+$/, ''))
  .describe('The address of another installation');
const ofMove = environmentParams.extend({ move: uuid });

export const moveOperations = {
  servers: operation({
    id: 'moves.servers',
    method: 'GET',
    path: '/manage/v1/database-servers',
    summary: 'The database servers that environments can be on',
    caller: viewer,
    reply: z.object({ items: z.array(server) }),
  }),
  plan: operation({
    id: 'moves.plan',
    method: 'GET',
    path: `${AT}/plan`,
    summary: 'What moving an environment would do, how long it takes, and what stays as it is',
    caller: owner,
    params: environmentParams,
    query: z.strictObject({ server: slug.optional().describe('Without it, the main one'), installation: installation.optional() }),
    reply: plan,
  }),
  begin: operation({
    id: 'moves.begin',
    changes: 'environment',
    confirmed: true,
    method: 'POST',
    path: AT,
    summary: 'Move an environment to another database server or another installation while it is in use',
    caller: owner,
    params: environmentParams,
    body: z.union([
      z.strictObject({ server }),
      z.strictObject({ installation, ticket: z.string().min(20).max(200).describe('Made there: `orchard env receive`') }),
    ]),
    status: 202,
    reply: move,
    problems: ['move-in-progress', 'busy', 'arrival-refused', 'already-exists', 'wrong-state', 'moved-installation-away'],
  }),
  list: operation({
    id: 'moves.list',
    evenMoved: true,
    command: 'env moves',
    method: 'GET',
    path: AT,
    summary: 'The moves of an environment, the newest first',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(move) }),
  }),
  read: operation({
    id: 'moves.read',
    evenMoved: true,
    method: 'GET',
    path: `${AT}/{move}`,
    summary: 'How far a move is',
    caller: viewer,
    params: ofMove,
    reply: move,
    problems: ['not-found'],
  }),
  undo: operation({
    id: 'moves.undo',
    changes: 'environment',
    method: 'POST',
    path: `${AT}/{move}/undo`,
    summary: 'Undo a move that has not switched yet: everything is as it was',
    caller: owner,
    params: ofMove,
    reply: move,
    problems: ['not-found', 'wrong-state'],
  }),
};
