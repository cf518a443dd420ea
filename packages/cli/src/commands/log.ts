/** Log entries, and errors of apps. */
import { createWriteStream, readFileSync } from 'node:fs';
import { basename } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { type LogEntry, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { readObject } from '../asking.js';
import { workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { follow } from '../follow.js';
import { note, printText } from '../output.js';
import { print, surroundings } from '../surroundings.js';

export function addLogCommands(program: Command): void {
  const noun = program.command('log').description('what service, gateways, jobs and apps have to say');
  addList(program, operations.log.list, ['at', 'level', 'source', 'text', 'version', 'trace', 'id'], {
    about: 'log entries, latest first, such as --filter "level = \'error\'"',
  });
  addWatch(noun);
  addExport(noun);
  addCall(program, operations.log.levels);
  addLevel(noun);
  program.command('error').description('unhandled errors of apps, by likely cause');
  addList(program, operations.log.errors, [
    'lastAt',
    'state',
    'count',
    'people',
    'name',
    'message',
    'place',
    ['versions', ({ versions }) => versions.join(' ')],
    'id',
  ]);
  addSourceMaps(program);
  addCall(program, operations.log.settle, {
    show: ({ name, state, settledIn }) => ({ name, state, settledIn: settledIn ?? 'any version' }),
  });
}

type Search = { filter?: string; text?: string };
const searchOptions = (command: Command): Command =>
  command.option('--filter <cql2>', 'a condition in CQL2, such as "source = \'gateway cairn\'"').option('--text <text>', 'free text');

function addWatch(noun: Command): void {
  searchOptions(noun.command('watch').description('log entries as they come in, until Ctrl-C')).action(
    async ({ filter, text }: Search, command: Command) => {
      const { options, client, params } = workspace(command);
      await follow(async (since, seen) => {
        const newer = `at >= TIMESTAMP('${since}')`;
        const query = { filter: filter ? `(${filter}) AND ${newer}` : newer, sort: 'at,id', limit: 1000, ...(text ? { text } : {}) };
        const fresh = (await client.call(operations.log.list, { params, query })).items.filter(({ id }) => !seen.has(id));
        for (const one of fresh) print(options.json ? JSON.stringify(one) : line(one));
        return fresh;
      });
    },
  );
}

const line = ({ at, level, source, text }: LogEntry): string => printText(`${at}  ${level.padEnd(7)}  ${source}  ${text}`);

function addExport(noun: Command): void {
  searchOptions(noun.command('export').description('log entries as NDJSON'))
    .option('--sort <fields>', 'such as at; the latest first without it')
    .option('--file <path>', 'write there instead of to standard output')
    .action(async ({ file, ...query }: Search & { sort?: string; file?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const source = Readable.fromWeb((await client.open(operations.log.export, { params, query })).body as never);
      if (!file) return pipeline(source, surroundings().stdout, { end: false });
      await pipeline(source, createWriteStream(file));
      note(`Wrote ${file}.`, options);
    });
}

function addLevel(noun: Command): void {
  noun
    .command('level <source> <level>')
    .description('the least level that is kept of a source, such as `gateway cairn`; * is all others')
    .option('--minutes <n>', 'raised for so long, then back by itself', Number)
    .action(async (source: string, level: 'debug', { minutes }: { minutes?: number }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = { source, level, ...(minutes ? { minutes } : {}) };
      const { levels, raised } = await client.call(operations.log.changeLevels, { params, body });
      if (options.json) return print(JSON.stringify({ levels, raised }, null, 2));
      for (const [name, kept] of Object.entries(levels)) print(`${name}  ${kept}`);
      for (const one of raised) print(`${one.source}  ${one.level} until ${one.until}`);
    });
}

function addSourceMaps(program: Command): void {
  const noun = program.command('source-map').description('source maps, which make stacks of errors readable');
  addList(program, operations.log.sourceMaps, ['version', 'file', 'sources', 'at']);
  noun
    .command('upload <files...>')
    .description('bring the source maps (*.map) of a version, before it is released')
    .requiredOption('--of <version>', 'version of the app, as its errors name it')
    .action(async (files: string[], { of: version }: { of: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      for (const path of files) {
        const map = await readObject(readFileSync(path, 'utf8'));
        const file = basename(path).replace(/\.map$/, '');
        const { sources } = await client.call(operations.log.putSourceMap, { params, body: { version, file, map } });
        note(`${file}: leads back to ${sources} ${sources === 1 ? 'file' : 'files'}.`, options);
      }
    });
}
