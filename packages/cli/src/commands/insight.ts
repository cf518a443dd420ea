/** Events of apps, and questions about the people who use them. */
import { actorWords, type EventCounts, operations, type ReplyOf, type SharedQuestion, type WhyReply } from '@orchard/contract';
import type { Command } from 'commander';
import type { GlobalOptions } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, note, printItem, printList } from '../output.js';
import { print, surroundings } from '../surroundings.js';

export function addEventCommands(program: Command): void {
  program.command('event').description('what apps report of their use');
  const own = operations.events;
  addList(program, own.list, [
    'name',
    ['planned', ({ planned }) => planned],
    ['properties', ({ properties }) => properties.map(({ name, type }) => `${name}:${type}`).join(' ')],
    ['lastAt', ({ lastAt }) => moment(lastAt)],
    'misfits',
    'description',
  ]);
  addCall(program, own.plan);
  addCall(program, own.types, { print: (text) => surroundings().stdout.write(String(text)) });
  addRemoval(program, own.unplan, { what: ({ event }) => `Taking ${event} out of the event plan` });
  addList(program, own.refusals, ['problem', 'name', 'client', 'count', ['lastAt', ({ lastAt }) => moment(lastAt)], 'detail']);
  addList(program, own.latest, [
    ['at', ({ at }) => at],
    'name',
    ['userId', ({ userId }) => userId ?? ''],
    ['deviceId', ({ deviceId }) => deviceId ?? ''],
    ['properties', ({ properties }) => JSON.stringify(properties)],
  ]);
}

export function addInsightCommands(program: Command): void {
  addDateNotes(program);
  addSheets(program);
  program.command('insight').description('questions about the people who use the apps');
  const own = operations.insight;
  addCall(program, operations.events.settings);
  addCall(program, operations.events.changeSettings);
  addCall(program, own.events, { print: printCounts });
  addCall(program, own.arrivals, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      const { day, week, month } = reply.activity;
      print(`${reply.total} new people, ${reply.active} active; ${day} in the last day, ${week} in 7 days, ${month} in 28`);
      chart(reply.steps.map((one) => one.new));
      if (reply.groups.length > 0)
        printList(reply.groups, [['group', ({ group }) => groupWords(group)], 'total', ['since', ({ since }) => moment(since)]], options);
      else printList(reply.steps, [['from', ({ at }) => moment(at)], 'new', 'active'], options);
    },
  });
  addCall(program, own.visits, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      chart(reply.steps.map(({ visits }) => visits));
      const rows = [{ group: ['all'] as (string | null)[] | 'others', figures: reply.total }, ...reply.groups];
      printList(
        rows,
        [
          ['group', ({ group }) => groupWords(group)],
          ['visits', ({ figures }) => figures.visits],
          ['people', ({ figures }) => figures.people],
          ['perPerson', ({ figures }) => rounded(figures.perPerson)],
          ['median', ({ figures }) => seconds(figures.medianMs)],
          ['mean', ({ figures }) => seconds(figures.meanMs)],
          ['p95', ({ figures }) => seconds(figures.p95Ms)],
        ],
        options,
      );
    },
  });
  addCall(program, own.funnel, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      const rows = [{ group: ['all'] as (string | null)[] | 'others', steps: reply.steps }, ...reply.groups];
      printList(
        rows.flatMap(({ group, steps }) => steps.map((step) => ({ group: groupWords(group), ...step }))),
        [
          'group',
          'event',
          'people',
          ['ofFirst', ({ ofFirst }) => percent(ofFirst)],
          ['ofPrevious', ({ ofPrevious }) => percent(ofPrevious)],
          ['median', ({ medianMs }) => seconds(medianMs)],
          ['', ({ ofFirst }) => '█'.repeat(Math.round((ofFirst ?? 0) * 24))],
        ],
        options,
      );
    },
  });
  addCall(program, own.why, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      print(`${reply.stopped} stopped there, ${reply.went} went on.`);
      for (const { words } of reply.differences) print(`- ${words}`);
      printList(reply.next, [['next', ({ event }) => event ?? 'nothing'], 'people'], options);
      printCallsBefore(reply.calls, options);
    },
  });
  addCall(program, own.behind, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      print(`${reply.total} people`);
      printList(
        reply.items,
        [
          'person',
          'times',
          ['userId', ({ userId }) => userId ?? ''],
          ['devices', ({ deviceIds }) => deviceIds.join(' ')],
          ['firstAt', ({ firstAt }) => moment(firstAt)],
        ],
        options,
      );
    },
  });
  addCall(program, own.effect, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      printList(reply.items, ['outcome', 'variant', 'people', 'did', ['share', ({ share }) => percent(share)]], options);
      if (reply.p !== null) print(`Opened beside not reached: p = ${reply.p.toPrecision(2)}`);
    },
  });
  addCall(program, own.returns, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      const most = Math.max(0, ...reply.cohorts.map(({ returned }) => returned.length));
      printList(
        reply.cohorts,
        [
          ['from', ({ at }) => at.slice(0, 10)],
          'people',
          ...Array.from(
            { length: most },
            (_, i) =>
              [
                `+${i}`,
                ({ people, returned }: (typeof reply.cohorts)[number]) =>
                  people === 0 || i >= returned.length ? '' : percent((returned[i] ?? 0) / people),
              ] as const,
          ),
        ],
        options,
      );
    },
  });
  addCall(program, own.paths, {
    print: (reply, options) => {
      if (options.json) return printItem(reply, options);
      print(`${reply.total} visits`);
      printPaths(reply.next, reply.total, 1);
    },
  });
  addCall(program, own.across, {
    print: (reply, options, command) => {
      if (options.json) return printItem(reply, options);
      const gist = GIST[command.args[0] as SharedQuestion] as (answer: unknown) => string;
      printList(
        reply.items,
        [
          ['environment', ({ app, environment }) => `${app}/${environment}`],
          ['answer', ({ answer, refused }) => refused ?? gist(answer)],
        ],
        options,
      );
    },
  });
}

/** What went wrong before people stopped. */
function printCallsBefore({ people, asked, sampled, since, items }: WhyReply['calls'], options: GlobalOptions): void {
  if (items.length === 0) return print(`None of ${asked} people had a refused, failed or slow call just before.`);
  print(`${people} of ${asked} people had a refused, failed or slow call just before:`);
  printList(
    items,
    [['problem', ({ problem }) => problem ?? 'slow'], 'people', 'method', 'route', ['target', ({ target }) => target ?? ''], 'request'],
    options,
  );
  if (sampled) note('Of many such calls one in twenty was kept: more people may have had one.', options);
  if (since) note(`Calls before ${moment(since)} were not looked at.`, options);
}

/** The gist of an answer in one line. */
const GIST: { [Question in SharedQuestion]: (answer: ReplyOf<(typeof operations)['insight'][Question]>) => string } = {
  events: ({ series }) =>
    series.map(({ group, total }) => `${group.length > 0 ? `${groupWords(group)} ` : ''}${rounded(total)}`).join(', '),
  arrivals: ({ total, active }) => `${total} new people, ${active} active`,
  visits: ({ total }) => `${total.visits} visits of ${total.people} people, median ${seconds(total.medianMs)}`,
  funnel: ({ steps }) => steps.map(({ event, people }) => `${event} ${people}`).join(' → '),
  returns: ({ curve }) => curve.map(percent).join('  '),
  paths: ({ total }) => `${total} visits`,
};

const groupWords = (group: (string | null)[] | 'others'): string =>
  group === 'others' ? 'others' : group.map((value) => value ?? '(none)').join(', ');
const percent = (share: number | null): string => (share === null ? '' : `${(share * 100).toFixed(1)} %`);
const rounded = (value: number | null): string => (value === null ? '' : String(Math.round(value * 100) / 100));
const seconds = (ms: number | null): string =>
  ms === null ? '' : ms < 120_000 ? `${(ms / 1000).toFixed(1)} s` : `${(ms / 60_000).toFixed(1)} min`;

const BARS = ' ▁▂▃▄▅▆▇█';
/** The values as a row of bars. */
function chart(values: readonly (number | null)[]): void {
  const most = Math.max(0, ...values.map((value) => value ?? 0));
  if (most > 0) print(values.map((value) => BARS[Math.ceil(((value ?? 0) / most) * 8)]).join(''));
}

function printCounts(reply: EventCounts, options: GlobalOptions): void {
  if (options.json) return printItem(reply, options);
  for (const { group, total, steps } of reply.series) {
    if (!options.csv) {
      print(`${group.length === 0 ? 'all' : groupWords(group)}: ${rounded(total)}`);
      chart(steps.map(({ value }) => value));
    }
  }
  const [first] = reply.series;
  printList(
    (first?.steps ?? []).map(({ at }, i) => ({ at, values: reply.series.map(({ steps }) => steps[i]?.value ?? null) })),
    [
      ['from', ({ at }) => moment(at)],
      ...reply.series.map(
        ({ group }, i) =>
          [
            group.length === 0 ? 'value' : groupWords(group),
            ({ values }: { values: (number | null)[] }) => rounded(values[i] ?? null),
          ] as const,
      ),
    ],
    options,
  );
}

type PathNode = { event: string | null; count: number; next: PathNode[] };
function printPaths(nodes: readonly PathNode[], total: number, depth: number): void {
  for (const { event, count, next } of nodes) {
    print(
      `${'  '.repeat(depth)}${percent(count / total).padStart(7)}  ${event === null ? 'rare ones' : event === '' ? '(end of the visit)' : event}`,
    );
    printPaths(next, total, depth + 1);
  }
}

function addDateNotes(program: Command): void {
  const own = operations.dateNotes;
  program.command('date-note').description('notes on dates, which charts over time show');
  addList(program, own.list, [['at', ({ at }) => moment(at)], 'text', ['by', ({ by }) => actorWords(by)], 'id']);
  addCall(program, own.add, { show: ({ id, at, text }) => ({ id, at, text }) });
  addRemoval(program, own.remove, { what: ({ note: id }) => `Taking the note ${id} off its date` });
}

function addSheets(program: Command): void {
  const own = operations.sheets;
  program.command('sheet').description('saved reports side by side');
  addList(program, own.list, [
    'name',
    ['reports', ({ items }) => items.map(({ name }) => name ?? '(deleted)').join(', ')],
    ['by', ({ by }) => actorWords(by)],
    'id',
  ]);
  addCall(program, own.read, {
    print: (sheet, options) =>
      options.json
        ? printItem(sheet, options)
        : printList(sheet.items, [['report', ({ name }) => name ?? '(deleted)'], 'width', ['id', ({ report }) => report]], options),
  });
  addCall(program, own.add, { show: ({ id, name }) => ({ id, name }) });
  addCall(program, own.change, { show: ({ id, name }) => ({ id, name }) });
  addRemoval(program, own.remove, { what: ({ sheet }) => `Removing the sheet ${sheet}` });
}
