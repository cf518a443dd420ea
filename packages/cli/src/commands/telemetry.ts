import { actorWords, curlOf, operations, type Usage, USAGE_SPLITS, type UsageSplit } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { follow } from '../follow.js';
import { printItem, printList, printText } from '../output.js';
import { type Period, periodOf, withPeriod } from '../period.js';
import { print, surroundings } from '../surroundings.js';

const ms = (value: number | null) => (value === null ? null : Math.round(value * 10) / 10);

/** Calls without an environment have a list of their own. */
const INSTALLATION = '--installation';
const ofInstallation = (command: Command) => command.opts<{ installation?: boolean }>().installation;

export function addTelemetryCommands(program: Command): void {
  program.command('request').description('recorded calls');
  addList(
    program,
    operations.telemetry.requests,
    ['at', 'method', 'path', 'status', ['durationMs', (call) => ms(call.durationMs)], 'client', 'problem', 'id'],
    {
      about: 'requests, latest first',
      instead: (command) => (ofInstallation(command) ? operations.telemetry.installationRequests : undefined),
    },
  ).option(INSTALLATION, 'requests without an environment: calls of members, and with unknown keys');
  addCall(program, operations.telemetry.request, {
    about: 'one request in full',
    instead: (command) => (ofInstallation(command) ? operations.telemetry.installationRequest : undefined),
  }).option(INSTALLATION, 'a request without an environment');
  const noun = program.commands.find((one) => one.name() === 'request') as Command;
  addWatch(noun);
  addCurl(noun);
  addHar(noun);
  addCall(program, operations.telemetry.recording);
  addCall(program, operations.telemetry.changeRecording, { about: 'change what is kept of calls: --bodies, --masked-fields' });
  addProblems(program);
  program.command('search').description('saved searches of requests and log entries');
  addList(program, operations.telemetry.searches, ['name', 'list', 'query', ['by', ({ by }) => actorWords(by)], 'at', 'id']);
  addRemoval(program, operations.telemetry.removeSearch, {
    what: ({ search }) => `Removing the saved search ${search}`,
    done: () => 'Removed.',
  });
  addUsage(program);
}

/** Prints requests as they come in. */
function addWatch(noun: Command): void {
  noun
    .command('watch')
    .description('requests as they come in, until Ctrl-C')
    .option('--filter <cql2>', 'a condition in CQL2, such as "status >= 400"')
    .option('--text <text>', 'free text in path, problem and detail')
    .action(async ({ filter, text }: { filter?: string; text?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      await follow(async (since, seen) => {
        const newer = `at >= TIMESTAMP('${since}')`;
        const query = { filter: filter ? `(${filter}) AND ${newer}` : newer, sort: 'at,id', limit: 1000, ...(text ? { text } : {}) };
        const { items } = await client.call(operations.telemetry.requests, { params, query });
        const fresh = items.filter(({ id }) => !seen.has(id));
        for (const one of fresh) {
          const { at, method, path, status, durationMs, problem, id } = one;
          print(
            options.json
              ? JSON.stringify(one)
              : printText([at, status, `${ms(durationMs)} ms`, `${method} ${path}`, problem ?? '', id].join('  ')),
          );
        }
        return fresh;
      });
    });
}

function addCurl(noun: Command): void {
  noun
    .command('curl <request>')
    .description('the curl command that repeats a request')
    .action(async (request: string, _own: object, command: Command) => {
      const { client, params } = workspace(command);
      const detail = await client.call(operations.telemetry.request, { params: { ...params, request } });
      print(curlOf(detail, client.address));
    });
}

function addHar(noun: Command): void {
  noun
    .command('har')
    .description('requests as HAR 1.2')
    .option('--filter <cql2>', 'a condition in CQL2, such as "status >= 400"')
    .option('--text <text>', 'free text in path, problem and detail')
    .option('--sort <fields>', 'such as -durationMs')
    .option('--limit <n>', 'at most this many, up to 500', Number, 100)
    .action(async (query: { filter?: string; text?: string; sort?: string; limit: number }, command: Command) => {
      const { client, params } = workspace(command);
      surroundings().stdout.write(await (await client.open(operations.telemetry.har, { params, query })).text());
    });
}

function addProblems(program: Command): void {
  withPeriod(
    program
      .command('problem')
      .description('refused and failed calls')
      .command('list')
      .description('refused and failed calls by problem, with change against the period before'),
  ).action(async (own: Period, command: Command) => {
    const { options, client, params } = workspace(command);
    const { items } = await client.call(operations.telemetry.problems, { params, query: periodOf(own) });
    printList(
      items,
      [
        'problem',
        'calls',
        'before',
        ['isNew', ({ isNew }) => (isNew ? 'first seen' : '')],
        [
          'route',
          ({ routes }) =>
            routes[0] ? `${routes[0].method} ${routes[0].route}${routes.length > 1 ? ` and ${routes.length - 1} more` : ''}` : '',
        ],
      ],
      options,
    );
  });
}

function addUsage(program: Command): void {
  withPeriod(program.command('usage').description('calls, errors and latency by route'))
    .option('--client <name>', 'only calls of this client')
    .option('--route <route>', 'only calls of this route')
    .option('--target <name>', 'only calls of this collection or channel')
    .option('--compare', 'with p95 of the period before, the routes that got slower first')
    .addOption(new Option('--by <what>', 'by this instead of by route').choices(USAGE_SPLITS))
    .option('--over-time', 'by time step instead of by route')
    .action(async (own: UsageOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const { client: of, route, target, by } = own;
      const compare = own.compare ? { compare: 'previous' as const } : {};
      const query = {
        ...periodOf(own),
        ...(of ? { client: of } : {}),
        ...(route ? { route } : {}),
        ...(target ? { target } : {}),
        ...(by ? { by } : {}),
        ...compare,
      };
      printUsage(await client.call(operations.telemetry.usage, { params, query }), options, own.overTime);
    });
}

type UsageOptions = Period & { client?: string; route?: string; target?: string; by?: UsageSplit; compare?: boolean; overTime?: boolean };

type Sum = Pick<Usage['total'], 'calls' | 'clientErrors' | 'serverErrors' | 'p50Ms' | 'p95Ms' | 'p99Ms'>;
const FIGURES = [
  'calls',
  ['4xx', ({ clientErrors }: Sum) => clientErrors],
  ['5xx', ({ serverErrors }: Sum) => serverErrors],
  ['p50 ms', ({ p50Ms }: Sum) => ms(p50Ms)],
  ['p95 ms', ({ p95Ms }: Sum) => ms(p95Ms)],
  ['p99 ms', ({ p99Ms }: Sum) => ms(p99Ms)],
] as const;

function printUsage(usage: Usage, options: GlobalOptions, overTime: boolean | undefined): void {
  if (options.json) return printItem(usage, options);
  if (overTime)
    return printList(
      usage.steps.filter(({ calls }) => calls > 0),
      [['from', ({ at }) => at], ...FIGURES],
      options,
    );
  if (usage.parts)
    return printList(usage.parts, [['name', ({ name, others }) => (others ? 'others' : (name ?? 'not told'))], ...FIGURES], options);
  const total = { ...usage.total, method: '', route: 'all together', target: null, statuses: {} };
  const isCompared = usage.previous !== undefined;
  const routes = isCompared ? slowerFirst(usage.routes) : usage.routes;
  printList(
    routes.length > 0 ? [...routes, { ...total, beforeP95Ms: usage.previous?.total.p95Ms ?? null }] : [],
    [
      ['route', ({ method, route, target }) => `${method} ${target ? route.replace(/\{\w+\}/, target) : route}`.trim()],
      ...FIGURES,
      ...(isCompared ? [['before', ({ beforeP95Ms = null }: { beforeP95Ms?: number | null }) => ms(beforeP95Ms)] as const] : []),
    ],
    options,
  );
}

/** How many times as long as before: the routes that got slower stand first. */
const slowerFirst = (routes: Usage['routes']): Usage['routes'] => {
  const times = ({ p95Ms, beforeP95Ms }: Usage['routes'][number]) => (p95Ms && beforeP95Ms ? p95Ms / beforeP95Ms : 0);
  return [...routes].sort((a, b) => times(b) - times(a));
};
