/**
 * How an operation reads as a command: it declares the words, path parameters follow in order, and each field of query and
 * body is an option named after it. The `orchard` command is built by these rules, and the console shows commands made by
 * them, so that the two cannot differ.
 */
import type { AnyOperation, Operation } from './operation.js';
import type { CallInput } from './httpClient.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;

/** Path parameters that every command takes as global options. */
const GLOBAL = { app: '--app', environment: '--env' } as const;

/** `packageIdentifier` → `--package-identifier`. */
export const optionName = (field: string): string => `--${field.replace(/[A-Z]/g, (capital) => `-${capital.toLowerCase()}`)}`;

/** The words of a command, and the fields of the body that follow them as arguments: `app add <name>`, or all of it: `<json>`. */
export function commandWords({ command = '' }: Pick<AnyOperation, 'command'>): { words: string[]; bodyArguments: string[] } {
  const parts = command.split(' ');
  const words = parts.filter((part) => !part.startsWith('<'));
  return { words, bodyArguments: parts.slice(words.length).map((part) => part.slice(1, -1)) };
}

/** Path parameters that are arguments of the command, in the order of the path; the app is one where the call is about it. */
export const pathArguments = ({ path }: Pick<AnyOperation, 'path'>): string[] =>
  [...path.matchAll(/\{(\w+)(?:\.\.\.)?\}/g)]
    .map(([, name]) => name as string)
    .filter((name) => !(name in GLOBAL) || path.endsWith('/apps/{app}'));

/** A text as one word of a POSIX shell (POSIX.1-2017, section 2.2.2); bare where nothing in it is special. */
export const shellWord = (text: string): string => (/^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);

/** One field as options: a flag for a boolean, comma-separated for texts, JSON for what has parts. */
function options([field, value]: [string, unknown]): string[] {
  const name = optionName(field);
  if (value === undefined || value === null || value === '') return [];
  if (typeof value === 'boolean') return [value ? name : name.replace('--', '--no-')];
  if (Array.isArray(value) && value.every((item) => typeof item === 'string')) return [name, shellWord(value.join(','))];
  return [name, shellWord(typeof value === 'object' ? JSON.stringify(value) : String(value))];
}

/**
 * The command that makes a call.
 * @throws Error for an operation without a command
 */
export function commandOf<O extends Any>(operation: O, input: CallInput<O>): string {
  if (!operation.command) throw new Error(`${operation.id} has no command`);
  const loose = input as { params?: Record<string, string>; query?: Record<string, unknown>; body?: Record<string, unknown> };
  const { words, bodyArguments } = commandWords(operation);
  const line = ['orchard', ...words, ...pathArguments(operation).map((name) => argument(name, loose.params?.[name]))];
  const { body = {} } = loose;
  for (const name of bodyArguments) line.push(argument(name, name === JSON_ARGUMENT ? JSON.stringify(body) : body[name]));
  const rest = bodyArguments.includes(JSON_ARGUMENT) ? [] : Object.entries(body).filter(([name]) => !bodyArguments.includes(name));
  for (const field of [...Object.entries(loose.query ?? {}), ...rest]) line.push(...options(field));
  for (const [name, option] of Object.entries(GLOBAL)) {
    const value = loose.params?.[name];
    if (value && !pathArguments(operation).includes(name)) line.push(option, shellWord(value));
  }
  return line.join(' ');
}

/** The argument that holds the whole body. */
export const JSON_ARGUMENT = 'json';

const argument = (name: string, value: unknown): string => (value === undefined ? `<${name}>` : shellWord(String(value)));
