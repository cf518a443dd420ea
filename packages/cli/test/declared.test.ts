/** Commands that are made from operations: what the console shows as a command is one that runs. */
import { execFile } from 'node:child_process';
import { rmSync } from 'node:fs';
import { promisify } from 'node:util';
import { type AnyOperation, allOperations, commandOf, commandWords, operations, optionName, pathArguments } from '@orchard/contract';
import type { Command } from 'commander';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestService } from '../../service/test/support.js';
import { buildProgram } from '../src/program.js';
import { COMMAND, openTerminal, signIn } from './terminal.js';

const withCommand = allOperations.filter(({ command }) => command);
const program = buildProgram();

function find({ command }: AnyOperation): Command {
  return commandWords({ command: command as string }).words.reduce((at, word) => {
    const next = at.commands.find((one) => one.name() === word);
    if (!next) throw new Error(`There is no command ${word} below ${at.name()}`);
    return next;
  }, program);
}

describe('every operation that names a command', () => {
  it.each(withCommand.map((operation) => [operation.command as string, operation] as const))(
    '%s takes what the call takes',
    (_name, operation) => {
      const command = find(operation);
      const { bodyArguments } = commandWords(operation);
      expect(command.registeredArguments.filter(({ required }) => required).length).toBe(
        pathArguments(operation).length + bodyArguments.length,
      );
      const known = new Set([...command.options, ...program.options].map(({ long }) => long));
      // A file is written, and its format told from its name; a range is given as a duration. An environment is named for all.
      const options = Object.keys(operation.query.shape).map((name) => (name === 'environment' ? '--env' : optionName(name)));
      expect(options.filter((option) => !known.has(option))).toEqual([]);
    },
  );

  it('is found under one command alone', () => {
    const lines = withCommand.filter(({ caller }) => caller.kind === 'member').map(({ command }) => command);
    expect(new Set(lines).size).toBe(lines.length);
  });
});

describe('a command as the console shows it', () => {
  const terminal = openTerminal();
  let test: TestService;
  beforeAll(async () => {
    test = await startTestService(inject('databaseUrl'));
    const { dev } = await makeApp(test, 'quillfell-hiker');
    for (const name of ["o'hara", 'runa']) await signUp(test, dev.clientKey, name.replace("'", ''));
    await signIn(terminal, test.address, 'quillfell-hiker/dev');
  });
  afterAll(async () => {
    await test.stop();
    rmSync(terminal.home, { recursive: true, force: true });
  });
  const params = { app: 'quillfell-hiker', environment: 'dev' };
  const inShell = async (line: string) => {
    const shell = line.replace(/^orchard/, `"${process.execPath}" "${COMMAND}"`);
    const env = { ...process.env, XDG_CONFIG_HOME: terminal.home };
    return (await promisify(execFile)('sh', ['-c', shell], { env })).stdout;
  };

  it('keeps a filter with quotes, spaces and dollars whole in a shell', async () => {
    const filter = "email LIKE 'runa%' AND name <> '$HOME `x` \"y\"'";
    const line = commandOf(operations.users.list, { params, query: { filter, sort: '-createdAt', limit: 5 } });
    expect(line).toMatch(/^orchard user list --filter '.*' --sort -createdAt --limit 5 --app quillfell-hiker --env dev$/);
    expect(await inShell(line)).toContain('runa@');
    expect(await inShell(line)).not.toContain('ohara');
  });

  it('makes a client, lets a topic be followed, and says what is missing as an argument', async () => {
    const body = { name: 'warden-web', kind: 'web' as const, origins: ['https://warden.quillfell.example', 'http://localhost:5173'] };
    expect(await inShell(commandOf(operations.clients.create, { params, body }))).toMatch(/key +\S{20}/);
    expect(await inShell(commandOf(operations.clients.list, { params }))).toContain(body.origins.join(' '));
    const put = commandOf(operations.topics.put, { params: { ...params, topic: 'ridge/weather' }, body: { title: 'Ridge weather' } });
    expect(put).toBe("orchard topic add ridge/weather --title 'Ridge weather' --app quillfell-hiker --env dev");
    expect(await inShell(put)).toContain('Ridge weather');
    expect(commandOf(operations.records.read, { params: { collection: 'huts' } as never })).toBe('orchard record show huts <id>');
  });

  it('takes a list as an argument, a number as one, and refuses what is neither', async () => {
    await inShell(
      commandOf(operations.managedRecords.create, { params: { ...params, collection: 'huts' }, body: { id: 'cold-tarn', bunks: 24 } }),
    );
    const index = commandOf(operations.collections.addIndex, { params: { ...params, collection: 'huts' }, body: { fields: ['bunks'] } });
    expect(await inShell(index)).toMatch(/fields +bunks/);
    const restore = ['record', 'restore', 'huts', 'cold-tarn'];
    expect(await terminal.orchard([...restore, 'first'])).toMatchObject({ code: 2, err: expect.stringContaining('whole number') });
    const [entry] = (await terminal.json('record', 'history', 'huts', 'cold-tarn')).items;
    expect(await terminal.json(...restore, String(entry.entry))).toMatchObject({ id: 'cold-tarn', bunks: 24 });
    expect(await terminal.orchard(['user', 'change', 'x'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('Give --name, --roles, --data, --disabled, --phone.'),
    });
  });

  it('heads each column with the name that filters take', async () => {
    const { out } = await terminal.orchard(['user', 'list']);
    const heads = (out.split('\n')[0] ?? '').split(/ {2,}/);
    expect(heads).toEqual(['id', 'email', 'name', 'roles', 'disabled', 'createdAt', 'lastSeenAt']);
    for (const head of heads.filter((name) => name !== 'roles'))
      expect(await terminal.orchard(['user', 'list', '--filter', `${head} IS NOT NULL`])).toMatchObject({ code: 0 });
  });
});
