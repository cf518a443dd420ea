import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, workplace } from '../context.js';
import { moment, printItem, printList } from '../output.js';
import { type ListOptions, listOptions, listQuery } from './people.js';

const UNITS = { m: 60_000, h: 3_600_000, d: 86_400_000 } as const;

/** A stretch such as 30m, 24h or 7d, in milliseconds. */
function stretch(text: string): number {
  const match = /^(\d{1,4})([mhd])$/.exec(text);
  if (!match) throw new CommandError(`\`${text}\` is no stretch of time. Write it such as 30m, 24h or 7d.`, 2);
  return Number(match[1]) * UNITS[match[2] as keyof typeof UNITS];
}
const ms = (value: number | null) => (value === null ? null : Math.round(value * 10) / 10);

export function addTelemetryCommands(program: Command): void {
  const request = program.command('request').description('calls as they were recorded');
  listOptions(
    request
      .command('list')
      .description('requests, the latest first')
      .option('--installation', 'those that belong to no environment: members’ calls and unknown keys'),
  ).action(async (own: ListOptions & { installation?: boolean }, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = own.installation
      ? await client.call(operations.telemetry.installationRequests, { query: listQuery(own) })
      : await client.call(operations.telemetry.requests, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        time: ({ at }) => moment(at),
        method: ({ method }) => method,
        path: ({ path }) => path,
        status: ({ status }) => status,
        ms: ({ durationMs }) => ms(durationMs),
        'db ms': ({ databaseMs }) => ms(databaseMs),
        client: ({ client }) => client,
        problem: ({ problem }) => problem,
        id: ({ id }) => id,
      },
      options,
      page.next,
    );
  });
  request
    .command('show')
    .description('one request in full')
    .argument('<id>')
    .option('--installation', 'one that belongs to no environment')
    .action(async (id: string, own: { installation?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      const found = own.installation
        ? await client.call(operations.telemetry.installationRequest, { params: { request: id } })
        : await client.call(operations.telemetry.request, { params: { ...params, request: id } });
      printItem(found, options);
    });

  program
    .command('usage')
    .description('calls, errors and latency by route')
    .option('--since <stretch>', 'such as 30m, 24h, 7d', '24h')
    .option('--client <name>', 'only calls of this client')
    .option('--over-time', 'by step of time instead of by route')
    .action(async (own: { since: string; client?: string; overTime?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      const until = Date.now();
      const query = {
        from: new Date(until - stretch(own.since)).toISOString(),
        until: new Date(until).toISOString(),
        ...(own.client ? { client: own.client } : {}),
      };
      const usage = await client.call(operations.telemetry.usage, { params, query });
      if (options.json) return printItem(usage, options);
      type Sum = Pick<(typeof usage)['total'], 'calls' | 'clientErrors' | 'serverErrors' | 'p50Ms' | 'p95Ms' | 'p99Ms'>;
      const figures = {
        calls: ({ calls }: Sum) => calls,
        '4xx': ({ clientErrors }: Sum) => clientErrors,
        '5xx': ({ serverErrors }: Sum) => serverErrors,
        'p50 ms': ({ p50Ms }: Sum) => ms(p50Ms),
        'p95 ms': ({ p95Ms }: Sum) => ms(p95Ms),
        'p99 ms': ({ p99Ms }: Sum) => ms(p99Ms),
      };
      if (own.overTime)
        printList(
          usage.steps.filter(({ calls }) => calls > 0),
          { from: ({ at }) => moment(at), ...figures },
          options,
        );
      else
        printList(
          usage.routes.length > 0 ? [...usage.routes, { ...usage.total, method: '', route: 'all together', statuses: {} }] : [],
          { route: ({ method, route }) => `${method} ${route}`.trim(), ...figures },
          options,
        );
    });
}
