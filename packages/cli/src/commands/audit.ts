/** The audit: who changed what, and whether its chain is whole. */
import { createWriteStream, readFileSync } from 'node:fs';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { type AuditChain, actorWords, operations } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { CommandError, globalsOf, signedIn } from '../context.js';
import { addList } from '../declared.js';
import { note, printItem, printList } from '../output.js';
import { surroundings } from '../surroundings.js';

/** App and environment narrow the list only where they are given. */
const placeOf = (command: Command): { app?: string; environment?: string } => {
  const { app, env } = globalsOf(command);
  return { ...(app ? { app } : {}), ...(env ? { environment: env } : {}) };
};

export function addAuditCommands(program: Command): void {
  const noun = program.command('audit').description('who changed what');
  addList(
    program,
    operations.audit.list,
    [
      'at',
      ['actor', ({ actor }) => actorWords(actor)],
      'action',
      'kind',
      'subject',
      ['place', ({ app, environment }) => [app, environment].filter(Boolean).join('/')],
      ['outcome', ({ outcome }) => (outcome === 'done' ? '' : outcome)],
      'address',
    ],
    { options: { app: false, environment: false }, query: placeOf, about: 'changes, latest first, such as --filter "kind = \'key\'"' },
  );
  addExport(noun);
  addVerify(noun);
}

function addExport(noun: Command): void {
  noun
    .command('export')
    .description('entries as a file, oldest first')
    .addOption(new Option('--format <format>', 'of the file').choices(['ndjson', 'csv']).default('ndjson'))
    .option('--file <path>', 'write there instead of to standard output')
    .option('--filter <cql2>', 'a condition in CQL2')
    .option('--by <text>', 'only by this member or token: name or id')
    .action(async (own: { filter?: string; by?: string; format: 'ndjson' | 'csv'; file?: string }, command: Command) => {
      const { filter, by, format, file } = own;
      const query = { format, ...(filter ? { filter } : {}), ...(by ? { by } : {}), ...placeOf(command) };
      const reply = await signedIn(globalsOf(command)).client.open(operations.audit.export, { query });
      const source = Readable.fromWeb(reply.body as never);
      if (!file) return pipeline(source, surroundings().stdout, { end: false });
      await pipeline(source, createWriteStream(file));
      note(`Wrote ${file}.`, globalsOf(command));
    });
}

type Head = { database: string; number: number; mac: string };

/** Heads in the log of the service, which has one JSON object in each line. */
function readHeads(file: string): Head[] {
  let text: string;
  try {
    text = readFileSync(file === '-' ? 0 : file, 'utf8');
  } catch {
    throw new CommandError(`There is no file ${file}.`, 2);
  }
  const heads = text.split('\n').flatMap((line): Head[] => {
    if (!line.includes('"auditHead"')) return [];
    try {
      return [(JSON.parse(line) as { auditHead: Head }).auditHead];
    } catch {
      return [];
    }
  });
  if (heads.length === 0) throw new CommandError(`${file} has no head of an audit chain. The service logs one each hour, as auditHead.`, 2);
  return heads;
}

function addVerify(noun: Command): void {
  noun
    .command('verify')
    .description('check whether an entry was changed, removed or cut off; exit code 1 if so')
    .option('--log <file>', 'a log of the service: the heads in it must still be in their chains; - for standard input')
    .action(async ({ log }: { log?: string }, command: Command) => {
      const options = globalsOf(command);
      const body = log ? { heads: readHeads(log) } : {};
      const { ok, items } = await signedIn(options).client.call(operations.audit.verify, { body });
      if (options.json) printItem({ ok, items }, options);
      else printChains(items, options);
      const compared = body.heads?.length ?? 0;
      if (log) note(compared === 1 ? '1 head of the log was compared.' : `${compared} heads of the log were compared.`, options);
      if (!ok) throw new CommandError('The audit is not whole.', 1);
      note('Every chain is whole.', options);
    });
}

function printChains(chains: AuditChain[], options: ReturnType<typeof globalsOf>): void {
  const columns = [
    ['chain', ({ app, environment }: AuditChain) => (app ? `${app}/${environment}` : 'installation')],
    ['entries', ({ number }: AuditChain) => number],
    ['whole', ({ ok }: AuditChain) => ok],
    ['fault', ({ faults }: AuditChain) => faults.map(({ detail }) => detail).join(' ')],
    ['head', ({ mac }: AuditChain) => mac],
  ] as const;
  printList(chains, columns, options);
}
