/** Questions to the person at the terminal. */
import { createInterface } from 'node:readline/promises';
import { Writable } from 'node:stream';
import { CommandError } from './context.js';

export async function ask(question: string): Promise<string> {
  const lines = createInterface({ input: process.stdin, output: process.stderr });
  try {
    return (await lines.question(question)).trim();
  } finally {
    lines.close();
  }
}

/** Asks without showing what is typed. */
export async function askSecret(question: string): Promise<string> {
  process.stderr.write(question);
  const lines = createInterface({
    input: process.stdin,
    output: new Writable({ write: (_chunk, _encoding, done) => done() }),
    terminal: process.stdin.isTTY,
  });
  try {
    return await lines.question('');
  } finally {
    lines.close();
    process.stderr.write('\n');
  }
}

/** Asks before something that cannot be undone; `--yes` answers. */
export async function confirm(what: string, yes: boolean | undefined): Promise<void> {
  if (yes) return;
  if (!process.stdin.isTTY) throw new CommandError(`${what} cannot be undone. Give --yes to do it.`, 2);
  if (!/^y(es)?$/i.test(await ask(`${what} cannot be undone. Do it? [y/N] `))) throw new CommandError('Nothing was done.', 1);
}

/** A JSON object given as an argument, or `-` for standard input. */
export async function readObject(argument: string): Promise<Record<string, never>> {
  let text = argument;
  if (argument === '-') {
    const chunks: Buffer[] = [];
    for await (const chunk of process.stdin) chunks.push(chunk as Buffer);
    text = Buffer.concat(chunks).toString();
  }
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    throw new CommandError(`That is not JSON: ${(error as Error).message}. Quote it for the shell, such as '{"bunks": 12}'.`, 2);
  }
  if (typeof value !== 'object' || value === null || Array.isArray(value))
    throw new CommandError('A JSON object is wanted, such as \'{"bunks": 12}\'.', 2);
  return value as Record<string, never>;
}
