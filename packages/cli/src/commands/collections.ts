import { readFileSync } from 'node:fs';
import { actorWords, type ChangePreview, type Collection, operations, type SchemaChange } from '@orchard/contract';
import type { Command } from 'commander';
import { readObject } from '../asking.js';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, note, printItem, printList } from '../output.js';
import { print } from '../surroundings.js';

type Explained = { text: string; result: boolean | null; decided: boolean; parts?: Explained[] };

export function addCollectionCommands(program: Command): void {
  const collection = program.command('collection').description('collections: fields, rules, indexes');
  addOverview(program, collection);
  addRules(collection);
  addSchema(collection);
  addIndexes(program);
  addViews(program, collection);
}

const bytes = (count: number) => (count < 1e6 ? `${Math.round(count / 1e3)} kB` : `${(count / 1e6).toFixed(1)} MB`);

function addOverview(program: Command, collection: Command): void {
  addList(
    program,
    operations.collections.list,
    [
      'name',
      'records',
      ['in 7 days', ({ grownBy }) => (grownBy === null ? '' : grownBy > 0 ? `+${grownBy}` : String(grownBy))],
      ['size', ({ bytes: count }) => bytes(count)],
      ['fields', ({ fields }) => fields.length],
      ...(['read', 'create', 'update', 'delete'] as const).map((action) => [action, ({ rules }: Collection) => rules[action]] as const),
    ],
    { about: 'collections with their sizes and rules' },
  );
  addCall(program, operations.collections.read, {
    about: 'fields, indexes and rules of one collection',
    print: (found, options) => (options.json ? printItem(found, options) : showCollection(found, options)),
  });
  collection
    .command('add')
    .description('create a collection')
    .argument('<name>')
    .option('--fields <fields>', 'name:type, comma-separated, such as "name:text,hut:reference(huts)"')
    .action(async (name: string, own: { fields?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const fields = (own.fields ?? '').split(',').filter(Boolean).map(readField);
      const made = await client.call(operations.collections.create, { params, body: { name, fields: fields as never } });
      printItem({ collection: made.name, fields: made.fields.map((field) => `${field.name}:${field.type}`).join(' ') }, options);
    });
  addRemoval(program, operations.collections.remove, {
    what: ({ collection: name }) => `Deleting the collection ${name} with all of its records`,
  });
}

/** `hut:reference(huts)`, `state:choice(open|shut)`, `name:text`. */
function readField(text: string): object {
  const [, name, type, inner] = /^\s*(\w+):(\w+)(?:\(([^)]*)\))?\s*$/.exec(text) ?? [];
  if (!name || !type) throw new CommandError(`${text} is not a field. Write name:type, such as nights:integer or hut:reference(huts).`, 2);
  return { name, type, ...(type === 'reference' ? { to: inner } : type === 'choice' ? { choices: (inner ?? '').split('|') } : {}) };
}

function showCollection({ fields, indexes, dropped, rules, records }: Collection, options: Parameters<typeof printItem>[1]): void {
  printList(
    fields,
    [
      ['field', ({ name }) => name],
      ['type', ({ type, to, choices }) => (to ? `${type} to ${to}` : choices ? `${type}: ${choices.join(' | ')}` : type)],
      [
        'constraints',
        ({ name: _n, type: _t, to: _to, choices: _c, ...rest }) =>
          Object.entries(rest)
            .map(([key, value]) => (value === true ? key : `${key} ${typeof value === 'string' ? value : JSON.stringify(value)}`))
            .join(', '),
      ],
    ],
    options,
  );
  print('');
  for (const { name, fields: over, kind } of indexes) print(`index ${name}: ${over.join(', ')}${kind === 'order' ? '' : ` (${kind})`}`);
  for (const { name, type, until, column } of dropped)
    print(`dropped ${name} (${type}), can be restored until ${moment(until)}: orchard collection recover … ${column}`);
  print('');
  printItem({ records, ...rules }, options);
}

function addRules(collection: Command): void {
  collection
    .command('rules')
    .description('change access rules')
    .argument('<collection>')
    .option('--read <rule>', 'a condition, or everyone, signed-in, owner, nobody')
    .option('--create <rule>')
    .option('--update <rule>')
    .option('--delete <rule>')
    .action(async (name: string, { read, create, update, delete: remove }: Record<string, string>, command: Command) => {
      const { options, client, params } = workspace(command);
      const rules = Object.fromEntries(Object.entries({ read, create, update, delete: remove }).filter(([, rule]) => rule !== undefined));
      if (Object.keys(rules).length === 0)
        throw new CommandError('No rule is given. Give one such as --read everyone or --update "ownerId = me(\'id\')".', 2);
      const changed = await client.call(operations.collections.patch, { params: { ...params, collection: name }, body: { rules } });
      printItem({ collection: changed.name, ...changed.rules }, options);
    });
  collection
    .command('try')
    .description('try a rule: whether a user may act on a record, and which part decides')
    .argument('<collection>')
    .argument('<action>', 'read, create, update or delete')
    .argument('<record>', 'an id, or the JSON of a record to be written')
    .option('--user <id>', 'a user id; without it, no one is signed in')
    .option('--roles <roles>', "instead of the user's own roles, comma-separated")
    .option('--rule <rule>', 'instead of the current rule')
    .action(
      async (name: string, action: string, record: string, own: { user?: string; roles?: string; rule?: string }, command: Command) => {
        const { options, client, params } = workspace(command);
        const trial = await client.call(operations.collections.tryRule, {
          params: { ...params, collection: name },
          body: {
            action: action as 'read',
            user: own.user ?? null,
            record: record.startsWith('{') ? await readObject(record) : record,
            ...(own.roles ? { roles: own.roles.split(',') } : {}),
            ...(own.rule ? { rule: own.rule } : {}),
          },
        });
        if (options.json) return printItem(trial, options);
        print(`${trial.allowed ? 'allowed' : 'refused'}  by ${trial.rule}`);
        printExplained(trial.explained as Explained, 1);
      },
    );
}

function printExplained({ text, result, decided, parts }: Explained, depth: number): void {
  print(`${'  '.repeat(depth)}${result === null ? 'unknown' : result}  ${text}${decided ? '  ← decides' : ''}`);
  for (const part of parts ?? []) printExplained(part, depth + 1);
}

function printPreviews(previews: ChangePreview[], options: Parameters<typeof printList>[2]): void {
  printList(
    previews,
    [
      ['change', ({ change }) => describe(change)],
      'fits',
      'misfits',
      ['examples', ({ examples }) => examples.map(({ id, value, problem }) => `${id}: ${JSON.stringify(value)} ${problem}`).join('\n')],
      ['notes', ({ notes, blocked }) => [...(blocked ? [`not possible: ${blocked}`] : []), ...notes].join('\n')],
    ],
    options,
  );
}

function describe(change: SchemaChange): string {
  switch (change.change) {
    case 'rename':
      return `rename ${change.name} to ${change.to}`;
    case 'recover':
      return `recover ${change.column}`;
    case 'drop':
      return `drop ${change.name}`;
    default:
      return `${change.change} ${change.name} ${change.field.type}`;
  }
}

function addSchema(collection: Command): void {
  collection
    .command('schema')
    .description('show the fields as JSON Schema, or change them to match one with --set')
    .argument('<collection>')
    .option('--set <file>', 'a JSON Schema that the fields should match')
    .option('--preview', 'only show what would change')
    .option('--clear-misfits', 'clear the values that do not fit')
    .action(async (name: string, own: { set?: string; preview?: boolean; clearMisfits?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const at = { params: { ...params, collection: name } };
      if (!own.set) return print(JSON.stringify(await client.call(operations.collections.schema, at), null, 2));
      const body = await readObject(readFileSync(own.set, 'utf8'));
      const { changes } = await client.call(operations.collections.previewSchema, { ...at, body });
      if (own.preview || changes.length === 0)
        return changes.length === 0 ? note('The fields match already.', options) : printPreviews(changes, options);
      await client.call(operations.collections.putSchema, { ...at, body, query: { misfits: own.clearMisfits ? 'clear' : 'refuse' } });
      printPreviews(changes, options);
    });
  const changing = (
    verb: string,
    description: string,
    args: [string, string][],
    make: (given: string[]) => Promise<SchemaChange> | SchemaChange,
  ) => {
    const command = collection.command(verb).description(description).argument('<collection>');
    for (const [name, what] of args) command.argument(name, what);
    command
      .option('--preview', 'only show what fits')
      .option('--clear-misfits', 'clear the values that do not fit')
      .action(async (...all: unknown[]) => {
        const self = all.at(-1) as Command;
        const own = all.at(-2) as { preview?: boolean; clearMisfits?: boolean };
        const [name, ...given] = all.slice(0, -2) as string[];
        const { options, client, params } = workspace(self);
        const at = { params: { ...params, collection: name as string }, body: await make(given) };
        if (own.preview) return printPreviews([await client.call(operations.collections.previewChange, at)], options);
        showCollection(
          await client.call(operations.collections.change, { ...at, query: { misfits: own.clearMisfits ? 'clear' : 'refuse' } }),
          options,
        );
      });
  };
  const FIELD = ['<json>', 'its definition, such as \'{"type":"integer","min":0}\''] as [string, string];
  changing('add-field', 'add a field', [['<field>', 'its name'], FIELD], async ([name, json]) => ({
    change: 'add',
    name: name as string,
    field: (await readObject(json as string)) as never,
  }));
  changing('change-field', 'change the type or constraints of a field', [['<field>', 'its name'], FIELD], async ([name, json]) => ({
    change: 'set',
    name: name as string,
    field: (await readObject(json as string)) as never,
  }));
  changing(
    'rename-field',
    'rename a field',
    [
      ['<field>', 'its name'],
      ['<to>', 'its new name'],
    ],
    ([name, to]) => ({ change: 'rename', name: name as string, to: to as string }),
  );
  changing('drop-field', 'drop a field; its values can be restored for 7 days', [['<field>', 'its name']], ([name]) => ({
    change: 'drop',
    name: name as string,
  }));
  changing(
    'recover',
    'restore a dropped field',
    [
      ['<column>', 'as shown by `orchard collection show`'],
      ['[as]', 'another name for it'],
    ],
    ([column, as]) => ({ change: 'recover', column: column as string, ...(as ? { as } : {}) }),
  );
}

function addIndexes(program: Command): void {
  addList(
    program,
    operations.collections.advice,
    (_items, command) => [
      ['lists by', ({ form }) => form],
      'calls',
      'meanMs',
      'worstMs',
      ['before', ({ before }) => (before ? `${before.meanMs} ms` : '')],
      [
        'advice',
        ({ propose, servedBy }) =>
          propose ? `orchard collection add-index ${command.args[0]} ${propose.fields.join(',')}` : servedBy ? `served by ${servedBy}` : '',
      ],
    ],
    { about: 'cost of lists, and indexes that would speed them up' },
  );
  addCall(program, operations.collections.addIndex, {
    about:
      'create an index over fields, comma-separated: one place, one list, or fields and paths into objects in the order they are compared',
    options: {
      search: { about: "over the texts that search('…') looks into" },
      unique: { about: 'no two records may have the same values' },
    },
    show: ({ name, fields, kind }) => ({ index: name, fields: fields.join(', '), kind }),
  });
  addCall(program, operations.collections.removeIndex, { about: 'drop an index', hint: (_, { index }) => `Dropped the index ${index}.` });
}

function addViews(program: Command, collection: Command): void {
  addList(
    program,
    operations.collections.views,
    [
      'id',
      'name',
      ['shows', ({ query }) => new URLSearchParams(query).get('filter') ?? 'everything'],
      ['by', ({ createdBy }) => actorWords(createdBy)],
    ],
    { about: 'saved views of the team' },
  );
  collection
    .command('save-view')
    .description('save a filter and sort under a name, for the whole team')
    .argument('<collection>')
    .argument('<name>')
    .option('--filter <cql2>', 'a condition')
    .option('--sort <fields>', 'such as -createdAt,name')
    .action(async (name: string, view: string, { filter, sort }: { filter?: string; sort?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const query = new URLSearchParams({ ...(filter ? { filter } : {}), ...(sort ? { sort } : {}) }).toString();
      const body = { name: view, query };
      printItem(await client.call(operations.collections.saveView, { params: { ...params, collection: name }, body }), options);
    });
  addCall(program, operations.collections.removeView, { about: 'delete a saved view', hint: (_, { view }) => `Deleted the view ${view}.` });
}
