/** Incidents, and who is told of them. */
import { actorWords, operations, type ReplyOf } from '@orchard/contract';
import type { Command } from 'commander';
import { type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, note, printItem, printList, printText } from '../output.js';
import { timeOf } from '../period.js';
import { print } from '../surroundings.js';

export function addIncidentCommands(program: Command): void {
  program.command('incident').description('stretches in which an environment was not well');
  addList(
    program,
    operations.incidents.list,
    [
      'openedAt',
      'closedAt',
      'condition',
      'title',
      ['acknowledgedBy', ({ acknowledgedBy }) => (acknowledgedBy ? actorWords(acknowledgedBy) : '')],
      'id',
    ],
    { about: 'incidents, latest first, such as --filter "closedAt IS NULL"' },
  );
  addCall(program, operations.incidents.read, { print: printIncident });
  const short = ({ title, acknowledgedAt }: { title: string; acknowledgedAt: string | null }) => ({ title, acknowledgedAt });
  addCall(program, operations.incidents.acknowledge, { show: short });
  addCall(program, operations.incidents.note, { show: short });
  addPlannedWork(program);
}

function printIncident(incident: ReplyOf<typeof operations.incidents.read>, options: GlobalOptions): void {
  if (options.json) return printItem(incident, options);
  const { title, condition, openedAt, closedAt, happenings, routes, changes } = incident;
  printItem({ title, condition, openedAt, closedAt: closedAt ?? 'still open' }, options);
  print('');
  for (const { at, kind, text, by } of happenings)
    print(printText(`${moment(at)}  ${kind.padEnd(15)}  ${text}${by.kind === 'service' ? '' : ` (${actorWords(by)})`}`));
  print('');
  printList(routes, ['method', 'route', 'calls', 'failed', 'refused', 'p95Ms'], options);
  if (changes && changes.length > 0) {
    print('');
    printList(changes, ['at', ['actor', ({ actor }) => actorWords(actor)], 'summary', 'subject'], options);
  }
}

function addPlannedWork(program: Command): void {
  const noun = program.command('planned-work').description('stretches in which nobody is alerted');
  addList(program, operations.incidents.planned, ['from', 'until', 'why', ['by', ({ by }) => actorWords(by)], 'id']);
  noun
    .command('add')
    .description('announce planned work: nobody is alerted, and no error budget is spent')
    .requiredOption('--from <time>', 'such as 2026-11-28T22:00Z')
    .requiredOption('--until <time>', 'such as 2026-11-28T23:30Z')
    .requiredOption('--why <text>', 'what is done')
    .action(async ({ from, until, why }: { from: string; until: string; why: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = { from: new Date(timeOf(from)).toISOString(), until: new Date(timeOf(until)).toISOString(), why };
      printItem(await client.call(operations.incidents.plan, { params, body }), options);
    });
  addRemoval(program, operations.incidents.unplan, { what: ({ work }) => `Removing the planned work ${work}`, done: () => 'Removed.' });
}

export function addAlertCommands(program: Command): void {
  program.command('alert').description('who is told of what');
  addCall(program, operations.alerts.read, { print: printSettings });
  addCall(program, operations.alerts.replace, {
    about: 'replace the rules and rotas, as JSON such as `alert show --json` prints, or - for standard input',
    print: printSettings,
  });
  addCall(program, operations.alerts.test, {
    print: ({ items }, options) => printList(items, ['to', ['reached', ({ ok }) => ok], 'detail'], options),
  });
  program.command('webhook').description('addresses that are told of alerts by HTTP');
  addCall(program, operations.alerts.addWebhook, {
    show: ({ name, url, secret }) => ({ name, url, secret }),
    hint: () => 'The secret is shown this once. Messages are signed with it (RFC 9421, hmac-sha256).',
  });
  addRemoval(program, operations.alerts.removeWebhook, { what: ({ webhook }) => `Removing the webhook ${webhook}` });
}

type AlertSettings = ReplyOf<typeof operations.alerts.read>;

function printSettings(settings: AlertSettings, options: GlobalOptions): void {
  if (options.json) return printItem({ rules: settings.rules, rotas: settings.rotas }, options);
  const words = (target: AlertSettings['rules'][number]['steps'][number][number]) =>
    target.to === 'on-call'
      ? `on call (${target.rota})`
      : `${target.to} ${'role' in target ? target.role : 'member' in target ? target.member : target.webhook}`;
  printList(
    settings.rules,
    [
      'name',
      ['on', ({ on, from }) => (on === 'condition' ? `${on}, from ${from}` : on)],
      ['steps', ({ steps }) => steps.map((step) => step.map(words).join(', ')).join(' → ')],
      'nextAfterMin',
      'remindAfterMin',
    ],
    options,
  );
  for (const { rota, member, until, replaces } of settings.onCall)
    note(`On call by ${rota}: ${member?.name ?? 'nobody'}${replaces ? `, for ${replaces.name}` : ''}, until ${moment(until)}.`, options);
  for (const { name, url, lastFailure } of settings.webhooks)
    note(`Webhook ${name}: ${url}${lastFailure ? ` (${lastFailure})` : ''}`, options);
}
