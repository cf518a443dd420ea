/** Setup files from the command line: checked, compared, applied, and written without losing what people wrote in them. */
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestService } from '../../service/test/support.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let number = 0;
let params: { app: string; environment: string };
const { home, orchard, spawned, json } = openTerminal();
const at = (name: string) => join(home, name);
const write = (name: string, text: string): string => {
  mkdirSync(join(at(name), '..'), { recursive: true });
  writeFileSync(at(name), text);
  return at(name);
};
const read = (name: string) => readFileSync(at(name), 'utf8');

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});
beforeEach(async () => {
  ({ params } = (await makeApp(test, `hiker-${++number}`)).dev);
  await orchard(['use', `${params.app}/dev`]);
});

const FILE = `# Quillfell Hiker
setup: 1
topics:
  # Storms, and when they are over
  ridge: { title: The ridge } # read by everybody
  huts: { title: Huts }
collections:
  huts:
    fields:
      name: { type: text, required: true }
      bunks: { type: integer } # as the warden counts
    rules: { read: everyone }
`;

describe('orchard setup', () => {
  it('compares with 6 where something differs, applies, and then compares with 0', async () => {
    const file = write('orchard.yaml', FILE);
    const compared = await orchard(['setup', 'compare', file]);
    expect([compared.code, compared.out]).toEqual([6, expect.stringContaining('+ topics/ridge')]);
    expect(compared.out).toContain('3 to make');
    const applied = await orchard(['setup', 'apply', file, '--yes', '--why', 'First']);
    expect([applied.code, applied.err]).toEqual([0, expect.stringContaining('Done: 3 to make.')]);
    expect(await orchard(['setup', 'compare', file])).toMatchObject({ code: 0, out: 'Nothing differs.\n' });
    const listed = await orchard(['release', 'list']);
    expect(listed.out).toMatch(/done .*3 to make .*First/);
  });

  it('says where a file is wrong, and asks nobody for that', async () => {
    const check = async (text: string) => {
      const { code, err } = await orchard(['setup', 'check', write('wrong.yaml', text)]);
      return [code, err.replaceAll(home, '').trim()];
    };
    expect(await check(FILE)).toEqual([0, expect.stringContaining('is a setup file')]);
    expect(await check('setup: 1\ntopics:\n  ridge:\n    titl: x\n')).toEqual([
      4,
      '/wrong.yaml:4:5: `topics.ridge.titl`: Unknown field `titl`; did you mean `title`?',
    ]);
    expect(await check('setup: 1\ntopics:\n  ridge: {}\n  ridge: {}\n')).toEqual([4, '/wrong.yaml:4:3: Map keys must be unique.']);
    expect(await check('setup: 2\n')).toEqual([4, expect.stringContaining('Update orchard.')]);
    const bomb = ['a: &a [x, x, x, x, x, x, x, x, x]'];
    for (const [name, before] of ['ba', 'cb', 'dc', 'ed', 'fe', 'gf']) bomb.push(`${name}: &${name} [${`*${before}, `.repeat(9)}]`);
    expect(await check(bomb.join('\n'))).toEqual([4, expect.stringContaining('aliases unfold')]);
    expect((await orchard(['setup', 'check', at('nowhere.yaml')])).code).toBe(2);
  });

  it('writes what there is into a file without touching what people wrote', async () => {
    const file = write('orchard.yaml', FILE);
    await orchard(['setup', 'apply', file, '--yes']);
    await test.owner.call(operations.topics.put, { params: { ...params, topic: 'ridge' }, body: { title: 'The whole ridge' } });
    await test.owner.call(operations.topics.remove, { params: { ...params, topic: 'huts' } });
    await test.owner.call(operations.topics.put, { params: { ...params, topic: 'trails' }, body: { title: 'Trails' } });
    expect((await orchard(['setup', 'export', '--out', file])).code).toBe(0);
    expect(read('orchard.yaml')).toBe(
      FILE.replace('The ridge }', 'The whole ridge }').replace('  huts: { title: Huts }\n', '  trails: { title: Trails, role: null }\n'),
    );
    expect((await orchard(['setup', 'compare', file])).code).toBe(0);
  });

  it('takes files that name others, and code from folders, and writes code back there', async () => {
    const file = write(
      'split/orchard.yaml',
      'setup: 1\nfiles: [topics.yaml]\nfunctions:\n  hello: { kind: endpoint, callers: anyone, from: code/hello }\n',
    );
    write('split/topics.yaml', 'topics:\n  ridge: {}\n');
    const code = (words: string) => `const handler: Endpoint = async () => ({ body: '${words}' });\nexport default handler;\n`;
    write('split/code/hello/main.ts', code('hello'));
    expect((await orchard(['setup', 'apply', file, '--yes'])).code).toBe(0);
    await test.owner.call(operations.functions.put, {
      params: { ...params, name: 'hello' },
      body: { kind: 'endpoint', callers: 'anyone', files: { 'main.ts': code('good day') } },
    });
    expect((await orchard(['setup', 'compare', file])).out).toContain('files.main.ts');
    await orchard(['setup', 'export', '--out', file]);
    expect(read('split/code/hello/main.ts')).toBe(code('good day'));
    write('split/topics.yaml', 'topics:\n  ridge: {}\nfunctions:\n  hello: { kind: endpoint }\n');
    expect(await orchard(['setup', 'check', file])).toMatchObject({
      code: 4,
      err: expect.stringContaining('`functions.hello` stands in another file as well'),
    });
  });

  it('does not lose data unasked, and undoes a release', async () => {
    await orchard(['setup', 'apply', write('orchard.yaml', FILE), '--yes']);
    await test.owner.call(operations.managedRecords.put, {
      params: { ...params, collection: 'huts', id: 'fellgate' },
      body: { name: 'Fellgate', bunks: 48 } as never,
    });
    const less = write('less.yaml', FILE.replace(/ {6}bunks.*\n/, ''));
    expect(await orchard(['setup', 'apply', less, '--yes'])).toMatchObject({ code: 4, err: expect.stringContaining('--lose-data') });
    const { id } = await json('setup', 'apply', less, '--yes', '--lose-data');
    expect((await orchard(['release', 'show', id])).out).toContain('fields.bunks: dropped');
    expect((await orchard(['release', 'undo', id, '--yes'])).code).toBe(0);
    expect(await json('record', 'show', 'huts', 'fellgate')).toMatchObject({ bunks: 48 });
  });

  it('promotes from another environment, where a second member approves it', async () => {
    await orchard(['setup', 'apply', write('orchard.yaml', FILE), '--yes']);
    const live = (...words: string[]) => orchard([...words, '--env', 'live']);
    await live('setup', 'demand', '--approval');
    const proposed = await live('setup', 'apply', '--from', `${params.app}/dev`, '--only', 'topics', '--yes');
    expect([proposed.code, proposed.err]).toEqual([0, expect.stringContaining('waits for a second member')]);
    const [, id = ''] = /release approve ([\w-]+)/.exec(proposed.err) ?? [];
    expect(await live('release', 'approve', id)).toMatchObject({ code: 4, err: expect.stringContaining('somebody else approves it') });
    expect((await live('release', 'refuse', id)).code).toBe(0);
  });
});
