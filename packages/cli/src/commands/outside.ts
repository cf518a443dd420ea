/** Tables of other servers, shown as collections. */
import { type Collection, operations, OUTSIDE_KINDS } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { passwordOf } from '../asking.js';
import { type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { printItem, printText } from '../output.js';
import { print, surroundings } from '../surroundings.js';

type ServerOptions = {
  kind: 'mariadb' | 'postgresql';
  address: string;
  database: string;
  user: string;
  tls?: boolean;
  passwordStdin?: boolean;
};

function printTable(collection: Collection, options: GlobalOptions): void {
  const { name, fields, outside } = collection;
  if (options.json || !outside) return printItem(collection, options);
  const { server, table, key, version, owner, changes, writable, readiness, cannot } = outside;
  printItem(
    {
      collection: name,
      table: `${table} on ${server}`,
      id: key,
      version: version ?? 'a hash of the row',
      owner,
      changes,
      writable,
      fields: fields.map((field) => `${field.name} (${field.type})`).join(', '),
    },
    options,
  );
  for (const { ready, text } of readiness) print(`  ${ready ? 'ready  ' : 'missing'}  ${printText(text)}`);
  for (const text of cannot) print(`  cannot   ${text}`);
}

export function addOutsideCommands(program: Command): void {
  const server = program.command('outside-server').description('database servers of others, whose tables are shown as collections');
  addList(program, operations.outside.servers, [
    'name',
    'kind',
    ['address', ({ host, port, database }) => `${host}:${port}/${database}`],
    'user',
    ['check', ({ check }) => (check ? (check.ok ? 'passed' : (check.steps.find(({ ok }) => !ok)?.text ?? 'failed')) : 'not yet')],
  ]);
  server
    .command('add')
    .description('add a database server, and check it')
    .argument('<name>')
    .addOption(new Option('--kind <kind>').choices(OUTSIDE_KINDS).makeOptionMandatory())
    .requiredOption('--address <host:port>')
    .requiredOption('--database <name>')
    .requiredOption('--user <name>')
    .option('--tls', 'encrypt the connection')
    .option('--password-stdin', 'read the password from standard input')
    .action(async (name: string, { kind, address, database, user, tls = false, passwordStdin }: ServerOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const [, host = address, port = ''] = /^(.*):(\d+)$/.exec(address) ?? [];
      const password = await passwordOf('Password: ', passwordStdin);
      const body = { name, kind, host, port: Number(port || (kind === 'mariadb' ? 3306 : 5432)), database, user, tls, password };
      await client.call(operations.outside.addServer, { params, body });
      const check = await client.call(operations.outside.checkServer, { params: { ...params, server: name } });
      if (options.json) return print(JSON.stringify(check, null, 2));
      for (const { what, ok, text } of check.steps) print(`${ok ? 'passed' : 'failed'}  ${what}: ${printText(text)}`);
    });
  addCall(program, operations.outside.checkServer, {
    print({ ok, steps }) {
      for (const step of steps) print(`${step.ok ? 'passed' : 'failed'}  ${step.what}: ${printText(step.text)}`);
      if (!ok) surroundings().exitCode = 1;
    },
  });
  addList(program, operations.outside.seen, [
    'table',
    ['rows', ({ rows, view }) => (view ? 'view' : rows)],
    ['columns', ({ columns }) => columns.map(({ column, as, unique }) => `${column}${unique ? '*' : ''} ${as ?? '–'}`).join(', ')],
  ]);
  addRemoval(program, operations.outside.removeServer, {
    what: ({ server: name }) => `Forgetting the outside server ${name} with its password`,
    done: ({ server: name }) => `Forgot the outside server ${name}.`,
  });
  program.command('outside-table').description('tables and views of other servers, shown as collections');
  addCall(program, operations.outside.addTable, { print: printTable });
  addCall(program, operations.outside.checkTable, { print: printTable });
  addRemoval(program, operations.outside.removeTable, {
    what: ({ collection }) => `Showing the outside table ${collection} no more`,
    done: ({ collection }) => `${collection} is shown no more; the table itself stays as it is.`,
  });
}
