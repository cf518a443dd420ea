import { operations, type Usage } from '@orchard/contract';
import type { Command } from 'commander';
import { type GlobalOptions, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { printItem, printList } from '../output.js';
import { type Period, periodOf, withPeriod } from '../period.js';

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
  withPeriod(program.command('usage').description('calls, errors and latency by route'))
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

type UsageOptions = Period & { client?: string; route?: string; overTime?: boolean };

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
