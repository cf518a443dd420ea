/** The command as a person runs it: a process of its own, with settings in a home of its own. */
import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { scratchDirectory } from '../../service/test/scratch.js';
import { OWNER } from '../../service/test/support.js';

export const COMMAND = fileURLToPath(new URL('../bin/orchard.js', import.meta.url));
export type Outcome = { code: number | null; out: string; err: string };
export type Terminal = {
  home: string;
  orchard: (args: string[], input?: string) => Promise<Outcome>;
  /** What a command answers with `--json`. */
  // biome-ignore lint/suspicious/noExplicitAny: tests look into whatever came back
  json: (...args: string[]) => Promise<any>;
};

export function openTerminal(): Terminal {
  const home = scratchDirectory('home');
  const orchard: Terminal['orchard'] = (args, input = '') => {
    const child = spawn(process.execPath, [COMMAND, ...args], { env: { ...process.env, XDG_CONFIG_HOME: home } });
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
  return { home, orchard, json: async (...args) => JSON.parse((await orchard([...args, '--json'])).out) };
}

/** Signs the owner in and chooses where to work. */
export async function signIn({ orchard }: Terminal, address: string, place: string): Promise<void> {
  await orchard(['sign-in', address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', place]);
}
