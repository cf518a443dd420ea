/** Questions to the person at the terminal. */
import { createInterface } from 'node:readline/promises';
import { Writable } from 'node:stream';
import type { Command } from 'commander';
import { CommandError } from './commandError.js';
import { surroundings } from './surroundings.js';

/** @param instead the option to give where there is no terminal */
export async function ask(question: string, instead: string): Promise<string> {
  demandTerminal(question, instead);
  const lines = createInterface({ input: surroundings().stdin, output: surroundings().stderr });
  try {
    return (await lines.question(question)).trim();
  } finally {
    lines.close();
  }
}

function demandTerminal(question: string, instead: string): void {
  if (!surroundings().stdin.isTTY)
    throw new CommandError(`${question.replace(/[:?]\s*$/, '')} would be asked for, and there is no terminal. Give ${instead}.`, 2);
}

/** Asks without showing what is typed. */
export async function askSecret(question: string, instead = '--password-stdin'): Promise<string> {
  demandTerminal(question, instead);
  surroundings().stderr.write(question);
  const lines = createInterface({
    input: surroundings().stdin,
    output: new Writable({ write: (_chunk, _encoding, done) => done() }),
    terminal: true,
  });
  try {
    return await lines.question('');
  } finally {
    lines.close();
    surroundings().stderr.write('\n');
  }
}

/** All of standard input. */
async function readInput(): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of surroundings().stdin) chunks.push(chunk as Buffer);
  return Buffer.concat(chunks).toString();
}

/** The first lines of standard input, for `--password-stdin`. */
export async function readLines(count: number): Promise<string[]> {
  const lines = (await readInput()).split(/\r?\n/).slice(0, count);
  if (lines.length < count || lines.includes(''))
    throw new CommandError(
      `Standard input holds ${count > 1 ? `fewer than ${count} passwords` : 'no password'}. Write ${count > 1 ? 'each' : 'it'} there as a line.`,
      2,
    );
  return lines;
}

export const readLine = async (): Promise<string> => (await readLines(1))[0] as string;

/**
 * Asks before something is deleted; `--yes` answers the question.
 * @param back how to restore it, where that is possible
 */
export async function confirm(what: string, yes: boolean | undefined, back = 'It cannot be undone.'): Promise<void> {
  if (yes) return;
  if (!surroundings().stdin.isTTY) throw new CommandError(`${what}: nothing was done. ${back} Give --yes to do it.`, 2);
  if (!/^y(es)?$/i.test(await ask(`${what}. ${back} Do it? [y/N] `, '--yes'))) throw new CommandError('Nothing was done.', 1);
}

/** JSON given as an argument, or `-` for standard input. */
export async function readJson(argument: string): Promise<unknown> {
  const text = argument === '-' ? await readInput() : argument;
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new CommandError(`That is not JSON: ${(error as Error).message}. Quote it for the shell, such as '{"bunks": 12}'.`, 2);
  }
}

/** A JSON object given in the same way. */
export async function readObject(argument: string): Promise<Record<string, never>> {
  const value = await readJson(argument);
  if (typeof value !== 'object' || value === null || Array.isArray(value))
    throw new CommandError('It must be a JSON object, such as \'{"bunks": 12}\'.', 2);
  return value as Record<string, never>;
}

/** Passwords are asked for, or read from standard input, so that no shell history holds them. */
export async function passwordOf(question: string, fromInput = false): Promise<string> {
  if (!fromInput) return askSecret(question);
  return (await readInput()).replace(/\r?\n$/, '');
}

/** What nobody should see on a command line: for each option `--<name>-stdin` that is given, a line of standard input. */
export async function fromInput(command: Command, names: readonly string[]): Promise<Record<string, string>> {
  const given = names.filter((name) => command.getOptionValue(`${name}Stdin`));
  const lines = given.length > 0 ? await readLines(given.length) : [];
  return Object.fromEntries(given.map((name, i) => [name, lines[i] as string]));
}
