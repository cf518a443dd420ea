/** Moving an environment to another database server, or another installation. */
import { setTimeout as sleep } from 'node:timers/promises';
import { type HttpClient, type MoveDocument, type MovePlanDocument, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { askSecret, confirm, readLine } from '../asking.js';
import { CommandError, globalsOf, signedIn, workspace } from '../context.js';
import { addList } from '../declared.js';
import { bytesWords } from '../fileTransfer.js';
import { moment, note, printText } from '../output.js';
import { isBarShown, newBar } from '../progressBar.js';
import { print } from '../surroundings.js';

const own = operations.moves;
const arrivals = operations.arrivals;
const POLL_MS = 300;
/** What people call the server that the settings give no name. */
const MAIN = 'main';
const named = (server: string | null): string => server ?? MAIN;

type MoveOptions = { to?: string; toInstallation?: string; ticketStdin?: boolean; plan?: boolean; yes?: boolean };

export function addMoveCommands(program: Command, env: Command): void {
  env
    .command('move')
    .description('move the environment to another database server or another installation while it is in use; says first what happens')
    .option('--to <server>', `the server, as ORCHARD_DATABASE_SERVERS names it, or ${MAIN}`)
    .option('--to-installation <address>', 'the address of the other installation; `orchard env receive` there makes the ticket for it')
    .option('--ticket-stdin', 'read the ticket from standard input instead of asking')
    .option('--plan', 'only say what would happen')
    .option('--yes', 'do not ask')
    .action((given: MoveOptions, command: Command) => move(given, command));
  env
    .command('receive')
    .description('make a ticket with which one environment of another installation may move here')
    .action(async (_given: object, command: Command) => {
      const options = globalsOf(command);
      const { client } = signedIn(options);
      const made = await client.call(arrivals.begin, {});
      if (options.json) return print(JSON.stringify(made, null, 2));
      print(made.ticket);
      note(
        `It is valid until ${moment(made.expiresAt)} and shown this once. At the other installation: orchard env move --to-installation ${client.address}`,
        options,
      );
    });
  addMoveLists(program);
}

async function move({ to, toInstallation, ticketStdin, plan: only, yes }: MoveOptions, command: Command): Promise<void> {
  if ((to === undefined) === (toInstallation === undefined))
    throw new CommandError('Say where to: --to with a database server, or --to-installation with an address.', 2);
  const { options, client, params } = workspace(command);
  const server = to === undefined || to === MAIN ? null : to;
  const query = toInstallation === undefined ? { ...(server ? { server } : {}) } : { installation: toInstallation };
  const plan = await client.call(own.plan, { params, query });
  if (only && options.json) return print(JSON.stringify(plan, null, 2));
  if (only || !yes) tellPlan(plan);
  if (only) return;
  const target = toInstallation ?? named(server);
  await confirm(`Moving ${params.app}/${params.environment} to ${target}`, yes, 'Until it switches, it can be undone.');
  const ticket = toInstallation === undefined ? null : await (ticketStdin ? readLine() : askSecret('Ticket: ', '--ticket-stdin'));
  const body = toInstallation === undefined || ticket === null ? { server } : { installation: toInstallation, ticket };
  const done = await followed(client, params, await client.call(own.begin, { params, body }), options);
  if (options.json) print(JSON.stringify(done, null, 2));
  if (done.state !== 'done') throw new CommandError(done.problem ?? 'The move was undone: everything is as it was.', 1);
  const held = done.pauseMs === null ? '' : `, and writes held for ${done.pauseMs} ms`;
  note(
    `${params.app}/${params.environment} is ${toInstallation === undefined ? 'on' : 'at'} ${target}. ${done.rows.toLocaleString('en')} rows were copied, ${done.caughtUp.toLocaleString('en')} changes brought over${held}.`,
    options,
  );
  if (toInstallation !== undefined)
    note(`Calls are passed on there until the environment is deleted here: orchard env delete --env ${params.environment}`, options);
}

function tellPlan(plan: MovePlanDocument): void {
  for (const [i, step] of plan.steps.entries()) print(`${i + 1}. ${printText(step)}`);
  print('What stays as it is:');
  for (const line of plan.stays) print(`  ${printText(line)}`);
  print(`${bytesWords(plan.bytes)}, about ${Math.ceil(plan.durationMs / 1000)} s.`);
}

async function followed(
  client: HttpClient,
  params: { app: string; environment: string },
  begun: MoveDocument,
  options: Parameters<typeof isBarShown>[0],
): Promise<MoveDocument> {
  const bar = isBarShown(options) ? newBar(' {doing}') : null;
  bar?.start(1, 0, { doing: '' });
  let now = begun;
  while (!now.endedAt) {
    await sleep(POLL_MS);
    now = await client.call(own.read, { params: { ...params, move: begun.id } });
    bar?.update(0, { doing: now.doing ?? '' });
  }
  bar?.stop();
  return now;
}

function addMoveLists(program: Command): void {
  addList(program, own.list, [
    'id',
    ['at', ({ at }) => moment(at)],
    ['from', ({ from }) => named(from)],
    ['to', ({ to, installation }) => installation ?? named(to)],
    'state',
    ['pause', ({ pauseMs }) => (pauseMs === null ? '' : `${pauseMs} ms`)],
    'problem',
  ]);
  addList(program, arrivals.list, [
    'id',
    ['at', ({ at }) => moment(at)],
    ['environment', ({ app, environment }) => (app ? `${app}/${environment}` : '')],
    'state',
    'doing',
    'problem',
    ['notes', ({ notes }) => notes.join(' ')],
  ]);
}
