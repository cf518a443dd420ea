/**
 * The setup file `orchard.yaml`: read from one file or several, checked with the place of each fault, and brought up to date with comments
 * and order kept.
 */
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { SETUP_FORMAT, setupFile, type SetupDifferenceDocument } from '@orchard/contract';
import { checkInput } from '@orchard/contract/inputProblems';
import type { Document, LineCounter, Node, YAMLMap } from 'yaml';
import { filesAt } from './commands/functions.js';
import { CommandError } from './commandError.js';

export const SETUP_FILE = 'orchard.yaml';
type Json = { [name: string]: unknown };
type Part = { path: string; document: Document; lines: LineCounter; value: Json };

/** Loaded when a command needs it: most do not. */
const yaml = () => import('yaml');

/** A setup file with those that it names under `files`. */
export class SetupFile {
  private constructor(
    /** The first is the file itself. */
    private readonly parts: Part[],
    /** With functions that are folders as their files. */
    readonly setup: Json,
  ) {}

  /** @throws {CommandError} 2 where it cannot be read, 4 where it is no YAML, or names something twice */
  static async read(path: string): Promise<SetupFile> {
    const first = await readPart(path);
    const { files = [], ...rest } = first.value;
    if (!Array.isArray(files) || files.some((file) => typeof file !== 'string'))
      throw new CommandError(`${path}: \`files\` must be a list of files, such as [setup/collections.yaml].`, 4);
    const others = await Promise.all((files as string[]).map((file) => readPart(join(dirname(path), file))));
    const setup: Json = { ...rest };
    for (const part of others) mergeInto(setup, part);
    return new SetupFile([first, ...others], withFunctionFiles(setup, dirname(path)));
  }

  /** @throws {CommandError} 4, with the place of each fault */
  check(): void {
    const { setup } = this.setup;
    if (typeof setup === 'number' && setup > SETUP_FORMAT)
      throw new CommandError(
        `${this.#placeOf('setup')}: the form ${setup} is of a later version of orchard; this one reads ${SETUP_FORMAT}. Update orchard.`,
        4,
      );
    const problems: { path: string; problem: string }[] = [];
    checkInput(setupFile, this.setup, '', problems as never);
    if (problems.length > 0)
      throw new CommandError(problems.map(({ path, problem }) => `${this.#placeOf(path)}: \`${path}\`: ${problem}`).join('\n'), 4);
  }

  /** `orchard.yaml:12:5` of the innermost member of a path that a file has. */
  #placeOf(path: string): string {
    const [kind = ''] = path.split('.');
    const part = this.parts.find(({ value }) => Object.hasOwn(value, kind)) ?? (this.parts[0] as Part);
    let node: unknown = part.document.contents;
    let at: Node | null = null;
    for (let left = path; left !== ''; ) {
      const pair = (node as YAMLMap | null)?.items?.find(({ key }) => left === String(key) || left.startsWith(`${key}.`));
      if (!pair) break;
      at = pair.key as Node;
      left = left.slice(String(pair.key).length + 1);
      node = pair.value;
    }
    const offset = at?.range?.[0];
    if (offset === undefined) return part.path;
    const { line, col } = part.lines.linePos(offset);
    return `${part.path}:${line}:${col}`;
  }

  /**
   * Brings the file up to date with an environment: only what differs is touched.
   * @param difference what applying the file would do, which is the other way round
   */
  async update({ changes }: SetupDifferenceDocument): Promise<string[]> {
    const { isMap } = await yaml();
    const touched = new Set<Part>();
    const written: string[] = [];
    for (const { kind, name, before, points, renames, action } of changes) {
      const part = this.parts.find(({ value }) => Object.hasOwn(value, kind));
      if (!part) continue;
      touched.add(part);
      const at = name === '' ? [kind] : [kind, name];
      if (action === 'make') part.document.deleteIn(at);
      else if (action === 'drop') part.document.setIn(at, fresh(part.document, before));
      else {
        for (const [field, was] of Object.entries(renames)) {
          part.document.deleteIn([...at, 'fields', field]);
          part.document.setIn([...at, 'fields', was], fresh(part.document, (before?.fields as Json | undefined)?.[was]));
        }
        for (const point of points) {
          const folder = kind === 'functions' && point.path[0] === 'files' ? part.document.getIn([...at, 'from']) : undefined;
          if (typeof folder === 'string') written.push(...writeCode(join(dirname(part.path), folder), point));
          else if (point.before === undefined) part.document.deleteIn([...at, ...point.path]);
          else setKept(part.document, [...at, ...point.path], point.before);
        }
      }
      // A kind without parts stays: it says that there are none.
      if (!isMap(part.document.getIn([kind]))) part.document.setIn([kind], part.document.createNode({}));
    }
    for (const { path, document } of touched) {
      writeFileSync(path, document.toString({ lineWidth: 0 }));
      written.push(path);
    }
    return [...new Set(written)];
  }
}

async function readPart(path: string): Promise<Part> {
  if (!existsSync(path)) throw new CommandError(`There is no file ${path}. \`orchard setup export --out ${path}\` writes one.`, 2);
  const { LineCounter, parseDocument } = await yaml();
  const lines = new LineCounter();
  const document = parseDocument(readFileSync(path, 'utf8'), { lineCounter: lines, uniqueKeys: true });
  const [fault] = document.errors;
  if (fault) {
    const [{ line, col }] = fault.linePos ?? [{ line: 1, col: 1 }];
    throw new CommandError(`${path}:${line}:${col}: ${(fault.message.split(' at line')[0] as string).trim()}.`, 4);
  }
  try {
    // An alias may stand for much; a file that unfolds into more than this is a mistake, or an attack.
    const value = (document.toJS({ maxAliasCount: 100 }) ?? {}) as Json;
    if (typeof value !== 'object' || Array.isArray(value)) throw new TypeError('expected kinds, such as `collections:`');
    return { path, document, lines, value };
  } catch (error) {
    const why =
      error instanceof ReferenceError
        ? 'Its aliases unfold into more than a hundred times as much. Write it out'
        : (error as Error).message;
    throw new CommandError(`${path}: ${why}.`, 4);
  }
}

/** @throws {CommandError} 4 where two files name the same */
function mergeInto(setup: Json, { path, value }: Part): void {
  for (const [kind, part] of Object.entries(value)) {
    const present = setup[kind];
    if (present === undefined) setup[kind] = part;
    else if (kind === 'setup' && present === part) continue;
    else {
      const twice = Object.keys(part as Json).find((name) => Object.hasOwn(present as Json, name));
      if (twice !== undefined)
        throw new CommandError(`${path}: \`${kind}.${twice}\` stands in another file as well. Keep it in one of them.`, 4);
      setup[kind] = { ...(present as Json), ...(part as Json) };
    }
  }
}

/** `from: functions/hut-today` in place of `files`: the code of that folder, or file. */
function withFunctionFiles(setup: Json, directory: string): Json {
  const { functions } = setup;
  if (typeof functions !== 'object' || functions === null) return setup;
  const whole = Object.entries(functions as { [name: string]: Json | null }).map(([name, part]) => {
    if (typeof part?.from !== 'string') return [name, part];
    const { from, ...definition } = part;
    return [name, { ...definition, files: filesAt(resolve(directory, from as string)) }];
  });
  return { ...setup, functions: Object.fromEntries(whole) };
}

function writeCode(folder: string, { path, before }: { path: string[]; before?: unknown }): string[] {
  const files = path.length === 1 ? (before as { [name: string]: string }) : { [path[1] as string]: before as string };
  return Object.entries(files ?? {}).flatMap(([name, text]) => {
    if (typeof text !== 'string') return [];
    const file = join(folder, name);
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, text);
    return [file];
  });
}

/** A value in place of another one, whose comments stay. */
function setKept(document: Document, path: string[], value: unknown): void {
  const node = document.getIn(path, true) as { value?: unknown; items?: unknown } | undefined;
  const isScalar = typeof value !== 'object' || value === null;
  if (isScalar && node && 'value' in node && !node.items) node.value = value;
  else document.setIn(path, fresh(document, value));
}

/** A node as a person would write it. */
function fresh(document: Document, value: unknown): Node {
  const node = literal(document.createNode(value) as Node);
  compact(node);
  return node;
}

/** Texts of several lines as they are read, not as one line with escapes. */
function literal<T>(node: T): T {
  const one = node as { value?: unknown; type?: string; items?: unknown[] };
  if (typeof one?.value === 'string' && one.value.includes('\n')) one.type = 'BLOCK_LITERAL';
  for (const item of one?.items ?? []) {
    literal(item);
    literal((item as { value?: unknown }).value);
  }
  return node;
}

/** Longest part that stands in a line. */
const LINE = 90;

/** Small parts stand in a line: a field, a rule, a list of choices. */
function compact(node: unknown): void {
  const collection = node as { items?: unknown[]; flow?: boolean; toJSON?: () => unknown } | null;
  if (!collection?.items || collection.items.length === 0) return;
  const values = collection.items.map((item) => (item as { value?: unknown }).value ?? item);
  const isPlain = values.every((value) => {
    const { value: text, items } = (value ?? {}) as { value?: unknown; items?: unknown[] };
    return items === undefined && !(typeof text === 'string' && text.includes('\n'));
  });
  if (isPlain && JSON.stringify(collection.toJSON?.() ?? null).length <= LINE) collection.flow = true;
  else for (const value of values) compact(value);
}

/** A whole setup as a new file. @param functions a folder that gets the code of functions; without one it stands in the file */
export async function newSetupFile(
  setup: Json,
  path: string | null,
  functions: string | null,
): Promise<{ text: string; written: string[] }> {
  const { Document } = await yaml();
  const written: string[] = [];
  const outside = (name: string, part: Json): Json => {
    if (!functions || !path) return part;
    const { files, ...definition } = part;
    written.push(...writeCode(join(dirname(path), functions, name), { path: ['files'], before: files }));
    return { ...definition, from: join(functions, name) };
  };
  const own = setup.functions as { [name: string]: Json } | undefined;
  const value = own
    ? { ...setup, functions: Object.fromEntries(Object.entries(own).map(([name, part]) => [name, outside(name, part)])) }
    : setup;
  const document = new Document(value);
  document.commentBefore =
    ' What this environment should be. `orchard setup compare` says what differs, `orchard setup apply` applies it.\n `orchard setup schema` prints the JSON Schema for editors.';
  literal(document.contents);
  compact(document.contents);
  return { text: document.toString({ lineWidth: 0 }), written };
}
