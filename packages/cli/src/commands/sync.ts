/** What devices keep at hand, and the schema as types for the apps that run on them. */
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { counted, type HttpClient, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { note } from '../output.js';
import { surroundings } from '../surroundings.js';

const own = operations.sync;
type Place = { app: string; environment: string };
type Expected = Record<string, Record<string, string>>;

export function addSyncCommands(program: Command): void {
  program.command('sync').description('devices that keep records at hand, and how far each is');
  addList(program, own.devices, ['device', 'at', 'behind', 'pending', 'conflicts', 'taken', 'refused', 'problem']);
  addCall(program, own.device);
  addTypes(program);
  addStarter(program);
}

type TypesOptions = { out?: string; check?: string; watch?: boolean };

function addTypes(program: Command): void {
  program
    .command('types')
    .description('write the schema as types of TypeScript, for `connect<Schema>(profile)`')
    .option('--out <file>', 'write this file instead of standard output')
    .option('--watch', 'write it again whenever the schema changes; needs --out')
    .option('--check <file>', 'compare a file that was written with the schema of now: exits with 1 where it expects what is gone')
    .action(async ({ out, check, watch }: TypesOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      if (check) return checkTypes(await readTypes(client, params), check, options);
      if (watch && !out) throw new CommandError('--watch needs --out <file>: where the types are written.', 2);
      if (!out) return void surroundings().stdout.write(await readTypes(client, params));
      do {
        const text = await readTypes(client, params);
        if (!existsSync(out) || readFileSync(out, 'utf8') !== text) {
          writeFileSync(out, text);
          note(`Wrote ${out}.`, options);
        }
        if (watch) await sleep(WATCH_MS);
      } while (watch);
    });
}

function addStarter(program: Command): void {
  program
    .command('starter <starter>')
    .description('download a small app (web) or program (node) that runs as it is, with the address and a client key filled in')
    .requiredOption('--client <client>', 'whose key is filled in')
    .option('--out <file>', 'write this ZIP instead of starter-<starter>.zip')
    .action(
      async (starter: string, { client: name, out = `starter-${starter}.zip` }: { client: string; out?: string }, command: Command) => {
        const { options, client, params } = workspace(command);
        const reply = await client.open(own.starter, { params: { ...params, starter: starter as 'web' }, query: { client: name } });
        writeFileSync(out, Buffer.from(await reply.arrayBuffer()));
        note(`Wrote ${out}. Unpack it; its README.md says how it is started.`, options);
      },
    );
}

const WATCH_MS = 2_000;
/** The last line of a file: what its types expect, for a later comparison. */
const EXPECTS = '// expects ';

async function readTypes(client: HttpClient, params: Place): Promise<string> {
  const { text, expects } = await client.call(own.types, { params });
  const events = await client.call(operations.events.types, { params });
  return `${text}\n${events}\n${EXPECTS}${JSON.stringify(expects)}\n`;
}

const expectedIn = (text: string): Expected | null => {
  const line = text.split('\n').find((one) => one.startsWith(EXPECTS));
  return line ? (JSON.parse(line.slice(EXPECTS.length)) as Expected) : null;
};

/** @throws {CommandError} that names each field that the app expects and the schema does not have so */
function checkTypes(live: string, file: string, options: GlobalOptions): void {
  if (!existsSync(file)) throw new CommandError(`There is no file ${file}. Write it by \`orchard types --out ${file}\`.`, 2);
  const [expected, now] = [expectedIn(readFileSync(file, 'utf8')), expectedIn(live) as Expected];
  if (!expected) throw new CommandError(`${file} was not written by \`orchard types\`: its last line does not say what it expects.`, 2);
  const misfits = Object.entries(expected).flatMap(([collection, fields]) => {
    const there = now[collection];
    if (!there) return [`the collection \`${collection}\`, which is gone`];
    return Object.entries(fields).flatMap(([field, type]) => {
      if (!there[field]) return [`the field \`${collection}.${field}\`, which is gone`];
      return there[field] === type ? [] : [`\`${collection}.${field}\` of type ${type}, which is ${there[field]} now`];
    });
  });
  if (misfits.length === 0) return note(`${file} fits the schema.`, options);
  throw new CommandError(
    `Your app expects ${misfits.join('; ')}. Change the app, or the schema (${counted(misfits.length, 'misfit')}).`,
    1,
  );
}
