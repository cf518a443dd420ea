/** The sandbox of functions: what it lets through, and what it stops. */
import type { Json } from '@orchard/core';
import { afterAll, describe, expect, it } from 'vitest';
import { LIMITS } from '../src/data/functions/sandbox/messages.js';
import { Sandboxes } from '../src/data/functions/sandbox/thread.js';

const sandboxes = new Sandboxes({ ...LIMITS, wallMs: 800, calls: 5, logLines: 3 });
/** With time enough to run out of something else. */
const patient = new Sandboxes({ ...LIMITS, cpuMs: 5_000 });
afterAll(() => {
  sandboxes.close();
  patient.close();
});

const asked: [string, Json][] = [];
async function run(source: string | Record<string, string>, argument: Json = {}, environment = 'one') {
  const files = typeof source === 'string' ? { 'main.js': source } : source;
  return sandboxes.run(environment, { files, main: 'main.js' }, JSON.stringify(argument), async (name, json) => {
    asked.push([name, JSON.parse(json)]);
    if (name === 'fetch') return new Promise(() => undefined);
    if (name === 'secret') throw new Error('There is no secret.');
    return JSON.stringify({ id: 'b1', nights: 2 });
  });
}
const answer = async (source: string, argument?: Json) => {
  const result = await run(source, argument);
  return 'answer' in result ? (result.answer as { value?: Json; refusal?: Json }) : result.failure;
};
const reason = async (source: string) => {
  const result = await run(source);
  return 'failure' in result ? result.failure.reason : result;
};

describe('a program', () => {
  it('is called with its argument and what it can reach, and answers', async () => {
    expect(
      await answer('export default (request, { log }) => { log.info("hello", { a: 1 }); return { body: request.name }; }', {
        name: 'Runa',
      }),
    ).toEqual({
      value: { body: 'Runa' },
    });
    const result = await run(`export default async ({ id }, { records }) => (await records('bookings').read(id)).nights * 2;`, {
      id: 'b1',
    });
    expect(result).toMatchObject({ answer: { value: 4 } });
    expect(asked.at(-1)).toEqual(['records.read', ['bookings', 'b1']]);
  });

  it('imports files of its own, from folders too, and nothing else', async () => {
    const files = {
      'main.js': `import { double } from './lib/numbers.js'; export default () => double(21);`,
      'lib/numbers.js': `import { two } from '../two'; export const double = (n) => n * two;`,
      'two.js': 'export const two = 2;',
    };
    expect(await run(files)).toMatchObject({ answer: { value: 42 } });
    expect(await reason(`import fs from 'fs'; export default () => 1;`)).toBe('error');
  });

  it('refuses in words of its own, and fails with its error and where', async () => {
    expect(await answer(`export default (_, { refuse }) => refuse('The hut is full.', { status: 409, field: 'hut' });`)).toEqual({
      refusal: { text: 'The hut is full.', status: 409, field: 'hut' },
    });
    const failure = await run('export default () => { null.x; };');
    expect(failure).toMatchObject({ failure: { reason: 'error', text: expect.stringMatching(/TypeError[\s\S]*main\.js/) } });
    expect(
      await answer(`export default async (_, { secret }) => { try { await secret('key'); } catch (error) { return error.message; } };`),
    ).toEqual({
      value: 'There is no secret.',
    });
    expect(await reason('export const other = 1;')).toBe('error');
    expect(await run('export default () => { const a = {}; a.a = a; throw a; };')).toMatchObject({ failure: { text: expect.any(String) } });
  });

  it('keeps nothing from one run to the next, and cannot change what the next one finds', async () => {
    const source = `export default (r, reach) => { globalThis.n = (globalThis.n ?? 0) + 1; Object.prototype.evil = 1; JSON.parse = () => 7; reach.log.info = 0; return n; };`;
    expect(await answer(source)).toMatchObject({});
    expect(await answer('export default (r) => [globalThis.n ?? null, ({}).evil ?? null, r.a];', { a: 5 })).toEqual({
      value: [null, null, 5],
    });
  });

  it('draws other random numbers in each run', async () => {
    const drawn = await Promise.all(Array.from({ length: 5 }, () => answer('export default () => Math.random();')));
    expect(new Set(drawn.map((one) => (one as { value: Json }).value)).size).toBe(5);
  });

  it('answers more runs at once than it has room for, each with its own', async () => {
    const source = `export default async ({ n }, { records }) => { await records('bookings').read('b1'); return n; };`;
    const answers = await Promise.all(Array.from({ length: 50 }, (_, n) => answer(source, { n })));
    expect(answers).toEqual(Array.from({ length: 50 }, (_, n) => ({ value: n })));
  });
});

describe('the sandbox stops', () => {
  it.each([
    ['an endless loop', 'export default () => { for (;;); };', 'processor'],
    ['an endless loop of promises', 'export default async () => { for (;;) await 0; };', 'processor'],
    [
      'native work that no interrupt reaches',
      'export default () => { const a = Array.from({ length: 300000 }, (_, i) => (i * 7919) % 300007); for (let i = 0; i < 50; i++) a.slice().sort(); return 1; };',
      'processor',
    ],
    ['a regular expression that backtracks', `export default () => /^(a+)+$/.test('a'.repeat(40) + 'b');`, 'processor'],
    ['endless recursion', 'export default () => { const f = () => f() + 1; return f(); };', 'stack'],
    ['a promise that never settles', 'export default () => new Promise(() => {});', 'unsettled'],
    ['an answer from outside that never comes', `export default (_, { fetch }) => fetch('https://slow.example');`, 'time'],
    ['an answer that is too long', `export default () => 'x'.repeat(2000000);`, 'output'],
    ['too many calls', `export default async (_, { records }) => { for (let i = 0; i < 9; i++) await records('a').read('b'); };`, 'calls'],
  ])('%s', async (_what, source, expected) => {
    expect(await reason(source)).toBe(expected);
    // The next run has a sandbox again.
    expect(await answer('export default () => 1;')).toEqual({ value: 1 });
  });

  it('whoever takes more memory than there is', async () => {
    for (const source of [
      'const a = []; for (;;) a.push(new Array(1000).fill(1.5));',
      'const a = {}; for (let i = 0; ; i++) a["key" + i] = "value" + i;',
    ]) {
      const result = await patient.run(
        'big',
        { files: { 'main.js': `export default () => { ${source} };` }, main: 'main.js' },
        '{}',
        async () => '',
      );
      expect(result).toMatchObject({ failure: { reason: expect.stringMatching(/memory|processor/) } });
    }
  });

  it('every way out that is known: constructors, eval, the host', async () => {
    const seen = await answer(
      `export default () => [typeof process, typeof require, typeof globalThis.__call, typeof __log, typeof fetch, typeof setTimeout,
         (() => { try { return Function('return typeof process')(); } catch { return 'none'; } })(),
         (() => { try { return eval('typeof process'); } catch { return 'none'; } })(),
         (() => { try { return (async () => {}).constructor('return typeof process')().then ? 'promise' : 'none'; } catch { return 'none'; } })()];`,
    );
    expect(seen).toEqual({
      value: ['undefined', 'undefined', 'undefined', 'undefined', 'undefined', 'undefined', 'undefined', 'undefined', 'promise'],
    });
    const own = await answer('export default (r, reach) => Object.keys(reach).sort();');
    expect(own).toEqual({
      value: [
        'channels',
        'fetch',
        'files',
        'log',
        'notify',
        'providerToken',
        'records',
        'refuse',
        'rely',
        'secret',
        'together',
        'upstreams',
        'users',
      ],
    });
  });

  it('one environment without another noticing', async () => {
    const loops = Array.from({ length: 3 }, () => run('export default () => { for (;;); };', {}, 'busy'));
    const started = performance.now();
    for (let i = 0; i < 5; i++) expect(await run('export default () => 1;', {}, 'calm')).toMatchObject({ answer: { value: 1 } });
    expect(performance.now() - started, 'five runs beside three loops').toBeLessThan(3_000);
    for (const result of await Promise.all(loops))
      expect(result).toMatchObject({ failure: { reason: expect.stringMatching(/processor|ended/) } });
  });

  it('a log that is too long, and says what a run used', async () => {
    const result = await run('export default () => { for (let i = 0; i < 9; i++) console.log("line " + i); return 1; };');
    expect(result.log.map(({ text }) => text)).toEqual(['line 0', 'line 1', 'line 2', 'More lines were left out.']);
    expect(result.cpuUs).toBeGreaterThan(0);
  });
});
