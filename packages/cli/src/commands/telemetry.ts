import { operations, type Usage } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { printItem, printList } from '../output.js';

const UNITS = { m: 60_000, h: 3_600_000, d: 86_400_000 } as const;

/** A duration such as 30m, 24h or 7d, in milliseconds. */
function duration(text: string): number {
  const match = /^(\d{1,4})([mhd])$/.exec(text);
  if (!match) throw new CommandError(`\`${text}\` is not a duration. Write one such as 30m, 24h or 7d.`, 2);
  return Number(match[1]) * UNITS[match[2] as keyof typeof UNITS];
}
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
  addUsage(program);
}

function addUsage(program: Command): void {
  program
    .command('usage')
    .description('calls, errors and latency by route')
    .option('--since <duration>', 'such as 30m, 24h, 7d', '24h')
    .option('--from <time>', 'instead of --since, such as 2026-11-18T00:00Z')
    .option('--until <time>', 'with --from; by default now')
    .option('--client <name>', 'only calls of this client')
    .option('--route <route>', 'only calls of this route')
    .option('--over-time', 'by time step instead of by route')
    .action(async (own: UsageOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const { client: of, route } = own;
      const query = { ...periodOf(own), ...(of ? { client: of } : {}), ...(route ? { route } : {}) };
      printUsage(await client.call(operations.telemetry.usage, { params, query }), options, own.overTime);
    });
}

type UsageOptions = { since: string; from?: string; until?: string; client?: string; route?: string; overTime?: boolean };

function periodOf({ since, from, until }: UsageOptions): { from: string; until: string } {
  const end = until ? timeOf(until) : Date.now();
  return { from: new Date(from ? timeOf(from) : end - duration(since)).toISOString(), until: new Date(end).toISOString() };
}

function timeOf(text: string): number {
  const at = Date.parse(text);
  if (Number.isNaN(at)) throw new CommandError(`\`${text}\` is not a time. Write one such as 2026-11-18T00:00Z.`, 2);
  return at;
}

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
  const total = { ...usage.total, method: '', route: 'all together', statuses: {} };
  printList(
    usage.routes.length > 0 ? [...usage.routes, total] : [],
    [['route', ({ method, route }) => `${method} ${route}`.trim()], ...FIGURES],
    options,
  );
}
