/** Taking over users from a file: NDJSON, or CSV with a header. */
import { createReadStream } from 'node:fs';
import { createInterface } from 'node:readline';
import { type ImportedUser, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { parse } from 'csv-parse';
import { CommandError, workspace } from '../context.js';
import { note, printList } from '../output.js';
import { print } from '../surroundings.js';

const AT_ONCE = 500;
const SHOWN = 20;
type Row = { line: number; user: ImportedUser };

export function addUserImport(program: Command): void {
  const noun = program.commands.find((one) => one.name() === 'user') as Command;
  noun
    .command('import')
    .description('take over users from a file, with the hashes of their passwords')
    .argument(
      '<file>',
      'NDJSON, or CSV with a header: email, name, phone, roles, passwordHash, emailConfirmed, createdAt; other columns are user fields',
    )
    .action(async (file: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const refused: { line: number; email: string; problem: string }[] = [];
      let added = 0;
      for await (const rows of batches(file)) {
        const reply = await client.call(operations.accounts.importUsers, { params, body: { users: rows.map(({ user }) => user) } });
        added += reply.added;
        for (const { index, email, problem } of reply.refused) refused.push({ line: rows[index]?.line ?? 0, email, problem });
        note(`${added} added, ${refused.length} refused`, options);
      }
      if (options.json) return print(JSON.stringify({ added, refused }));
      print(`${added} added, ${refused.length} refused`);
      if (refused.length > 0) printList(refused.slice(0, SHOWN), ['line', 'email', 'problem'], options);
    });
}

async function* batches(file: string): AsyncGenerator<Row[]> {
  let rows: Row[] = [];
  for await (const row of file.endsWith('.csv') ? csvRows(file) : ndjsonRows(file)) {
    rows.push(row);
    if (rows.length < AT_ONCE) continue;
    yield rows;
    rows = [];
  }
  if (rows.length > 0) yield rows;
}

async function* ndjsonRows(file: string): AsyncGenerator<Row> {
  let line = 0;
  for await (const text of createInterface({ input: createReadStream(file) })) {
    line++;
    if (text.trim() === '') continue;
    try {
      yield { line, user: JSON.parse(text) as ImportedUser };
    } catch (error) {
      throw new CommandError(`${file}, line ${line}: ${(error as Error).message}. Nothing of this and the following lines was sent.`, 1);
    }
  }
}

const OWN = new Set(['email', 'name', 'phone', 'roles', 'passwordHash', 'emailConfirmed', 'createdAt']);

async function* csvRows(file: string): AsyncGenerator<Row> {
  const parser = createReadStream(file).pipe(parse({ columns: true, bom: true, trim: true, info: true }));
  for await (const { record, info } of parser as AsyncIterable<{ record: Record<string, string>; info: { lines: number } }>)
    yield { line: info.lines, user: userOf(record) };
}

/** Empty cells are left out; several roles are separated by spaces, commas or semicolons. */
function userOf(record: Record<string, string>): ImportedUser {
  const given = Object.fromEntries(Object.entries(record).filter(([, value]) => value !== ''));
  const { roles, emailConfirmed, ...rest } = given;
  const own = Object.fromEntries(Object.entries(rest).filter(([name]) => OWN.has(name)));
  const data = Object.fromEntries(Object.entries(rest).filter(([name]) => !OWN.has(name)));
  return {
    ...(own as { email: string }),
    ...(roles ? { roles: roles.split(/[\s,;]+/) } : {}),
    ...(emailConfirmed ? { emailConfirmed: /^(true|1|yes)$/i.test(emailConfirmed) } : {}),
    ...(Object.keys(data).length > 0 ? { data } : {}),
  };
}
