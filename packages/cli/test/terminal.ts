/** The command as a person runs it, with settings in a home of its own. */
import { spawn } from 'node:child_process';
import { Readable, Writable } from 'node:stream';
import { fileURLToPath } from 'node:url';
import { scratchDirectory } from '../../service/test/scratch.js';
import { OWNER } from '../../service/test/support.js';
import { run, runIn, type Surroundings } from '../src/index.js';

export const COMMAND = fileURLToPath(new URL('../bin/orchard.js', import.meta.url));
export type Outcome = { code: number | null; out: string; err: string };
export type Terminal = {
  home: string;
  /** Runs in this process: a process of its own takes longer to start than most commands take. */
  orchard: (args: string[], input?: string, variables?: Record<string, string>) => Promise<Outcome>;
  /** The same as a process of its own. */
  spawned: Terminal['orchard'];
  /** The same at a real terminal: each line is typed once its question has appeared. Both outputs come as one. */
  typed: (args: string[], lines: [question: RegExp, line: string | ((out: string) => string)][]) => Promise<Pick<Outcome, 'code' | 'out'>>;
  /** What a command answers with `--json`. */
  // biome-ignore lint/suspicious/noExplicitAny: tests look into whatever came back
  json: (...args: string[]) => Promise<any>;
};

export function openTerminal(): Terminal {
  const home = scratchDirectory('home');
  const orchard: Terminal['orchard'] = async (args, input = '', variables = {}) => {
    const outcome: Outcome = { code: null, out: '', err: '' };
    const into = (name: 'out' | 'err') =>
      new Writable({
        decodeStrings: false,
        write: (chunk: string | Buffer, _encoding, done) => {
          outcome[name] += chunk.toString();
          done();
        },
      });
    const here: Surroundings = {
      stdin: Readable.from(input === '' ? [] : [Buffer.from(input)]),
      stdout: into('out'),
      stderr: into('err'),
      env: { ...process.env, XDG_CONFIG_HOME: home, ...variables },
      exitCode: 0,
    };
    await runIn(here, () => run(args));
    return { ...outcome, code: here.exitCode };
  };
  const spawned: Terminal['orchard'] = (args, input = '', variables = {}) => {
    const child = spawn(process.execPath, [COMMAND, ...args], { env: { ...process.env, XDG_CONFIG_HOME: home, ...variables } });
    const outcome: Outcome = { code: null, out: '', err: '' };
    child.stdout.on('data', (chunk) => {
      outcome.out += chunk;
    });
    child.stderr.on('data', (chunk) => {
      outcome.err += chunk;
    });
    child.stdin.end(input);
    return new Promise((resolve) => child.once('close', (code) => resolve({ ...outcome, code })));
  };
  // `script` of Debian's base gives the command a terminal of its own.
  const typed: Terminal['typed'] = (args, lines) => {
    const line = [process.execPath, COMMAND, ...args].map((word) => `'${word.replaceAll("'", "'\\''")}'`).join(' ');
    const child = spawn('script', ['-qefc', line, '/dev/null'], { env: { ...process.env, XDG_CONFIG_HOME: home } });
    const left = [...lines];
    let out = '';
    let seen = 0;
    child.stdout.on('data', (chunk) => {
      out += chunk;
      const next = left[0];
      if (!next?.[0].test(out.slice(seen))) return;
      seen = out.length;
      left.shift();
      child.stdin.write(`${typeof next[1] === 'string' ? next[1] : next[1](out)}\r`);
    });
    return new Promise((resolve) => child.once('close', (code) => resolve({ out, code })));
  };
  return { home, orchard, spawned, typed, json: async (...args) => JSON.parse((await orchard([...args, '--json'])).out) };
}

/** Signs the owner in and chooses where to work. */
export async function signIn({ orchard }: Pick<Terminal, 'orchard'>, address: string, place: string): Promise<void> {
  await orchard(['sign-in', address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', place]);
}
