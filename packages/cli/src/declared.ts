/**
 * Commands made from operations: their words, arguments and options are declared in the contract (see its commandLine.ts),
 * so that a command file says only what it shows.
 */
import {
  type AnyOperation,
  type BodyInputOf,
  type CallInput,
  commandWords,
  JSON_ARGUMENT,
  type Operation,
  optionName,
  pathArguments,
  type ReplyOf,
} from '@orchard/contract';
import { type Command, InvalidArgumentError, Option } from 'commander';
import { confirm, readJson, readObject } from './asking.js';
import { withIds } from './byEmail.js';
import { CommandError, globalsOf, type GlobalOptions, environmentOf, signedIn } from './context.js';
import { wholeNumber } from './numbers.js';
import { callProgress } from './progressBar.js';
import { type Columns, note, printItem, printList } from './output.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;
type Schema = AnyOperation['params'];
type Field = { type: string; schema: FieldSchema; required: boolean };
/** What a field's schema says. */
type FieldSchema = {
  description?: string | undefined;
  def: { type: string; innerType?: FieldSchema; element?: FieldSchema; in?: FieldSchema; entries?: Record<string, string> };
};

/** An option that differs from what the schema says, or is left out. */
type OptionTexts = Record<string, { flags?: string; about?: string } | false>;
type Common = {
  /** Instead of the operation's summary. */
  about?: string;
  /** Options of fields, by field name. */
  options?: OptionTexts;
  /** Parameters of the query that are not options of the command, such as global ones. */
  query?: (command: Command) => Record<string, unknown>;
  /** Another operation with the same response, chosen by an option. */
  instead?: (command: Command) => Any | undefined;
};
type Listed<O> = ReplyOf<O> extends { items: (infer Item)[] } ? Item : never;

/** The command of an operation below its noun; creates the noun if it is missing. */
function commandFor(program: Command, operation: Any, about = lowerFirst(operation.summary)): Command {
  if (!operation.command) throw new Error(`${operation.id} has no command`);
  const { words, bodyArguments } = commandWords(operation);
  const verb = words.pop() as string;
  const noun = words.reduce((at, word) => at.commands.find((one) => one.name() === word) ?? at.command(word), program);
  const command = noun.command(verb).description(about);
  for (const name of pathArguments(operation)) command.argument(`<${name}>`, operation.params.shape[name]?.description);
  for (const name of bodyArguments) command.argument(`<${name}>`, name === JSON_ARGUMENT ? 'as JSON, or - for standard input' : undefined);
  return command;
}

/** An abbreviation keeps its capitals. */
const lowerFirst = (text: string) => (/^[A-Z]{2}/.test(text) ? text : text.charAt(0).toLowerCase() + text.slice(1));

/** A schema without its wrappers for optional values. */
function fieldOf(schema: FieldSchema): Field {
  let inner = schema;
  let required = true;
  while (inner.def.innerType ?? inner.def.in) {
    if (['optional', 'default', 'nullable'].includes(inner.def.type)) required = false;
    inner = (inner.def.innerType ?? inner.def.in) as FieldSchema;
  }
  return { type: inner.def.type, schema: inner, required };
}

/** How the value of an option is written and read, by the type of its field. */
function notationOf(name: string, { type, schema }: Field): { placeholder: string; parse?: (text: string) => unknown; choices?: string[] } {
  switch (type) {
    case 'enum':
      return { placeholder: ` <${name}>`, choices: Object.values(schema.def.entries ?? {}) };
    case 'number':
      return { placeholder: ' <n>', parse: wholeNumber(0) };
    case 'boolean':
      return { placeholder: '' };
    case 'literal':
      return { placeholder: ` <${name}>` };
    case 'array': {
      const element = schema.def.element && fieldOf(schema.def.element);
      if (element?.type === 'enum') return { placeholder: ' <list>', parse: listOf(Object.values(element.schema.def.entries ?? {})) };
      return element?.type === 'string' ? { placeholder: ' <list>', parse: splitList } : { placeholder: ' <json>' };
    }
    case 'string':
      return { placeholder: ' <text>' };
    default:
      return { placeholder: ' <json>' };
  }
}

/** `a,b`, or the option given again. */
const splitList = (text: string): string[] =>
  text
    .split(',')
    .map((item) => item.trim())
    .filter(Boolean);

const listOf = (choices: string[]) => (text: string) => {
  const items = splitList(text);
  const wrong = items.find((item) => !choices.includes(item));
  if (wrong === undefined) return items;
  throw new InvalidArgumentError(`\`${wrong}\` is not one of ${choices.join(', ')}.`);
};

const LIST_OPTIONS: OptionTexts = {
  filter: { flags: '--filter <cql2>', about: 'a condition in CQL2, such as "nights > 2"' },
  sort: { flags: '--sort <fields>', about: 'such as -createdAt,name' },
  limit: { about: 'at most this many, up to 1,000' },
  cursor: { about: 'the cursor printed with the previous page' },
};

/** Adds an option for each field of a schema; with `canTurnOff`, a flag has an opposite. */
function addOptions(command: Command, shape: Schema['shape'] | undefined, texts: OptionTexts = {}, canTurnOff = false): void {
  for (const [name, schema] of Object.entries(shape ?? {})) {
    const text = texts[name] ?? LIST_OPTIONS[name] ?? {};
    if (text === false) continue;
    const field = fieldOf(schema as unknown as FieldSchema);
    const { placeholder, parse, choices } = notationOf(name, field);
    const about = text.about ?? lowerFirst((schema as unknown as FieldSchema).description ?? field.schema.description ?? '');
    const option = new Option(text.flags ?? `${optionName(name)}${placeholder}`, about);
    if (choices) option.choices(choices);
    if (parse && name === 'limit') option.argParser(wholeNumber(1, 1000)).default(50);
    else if (parse)
      option.argParser((value: string, before: unknown) =>
        Array.isArray(before) ? [...before, ...(parse(value) as unknown[])] : parse(value),
      );
    if (field.required) option.makeOptionMandatory();
    command.addOption(option);
    if (field.type === 'boolean' && !text.flags && canTurnOff) command.addOption(new Option(optionName(name).replace('--', '--no-')));
  }
}

/** The values given for the fields of a schema; JSON is parsed. */
async function given(command: Command, shape: Schema['shape'] | undefined, texts: OptionTexts = {}): Promise<Record<string, unknown>> {
  const values: Record<string, unknown> = {};
  for (const [name, schema] of Object.entries(shape ?? {})) {
    if (texts[name] === false) continue;
    const own = /^--([\w-]+)/.exec((texts[name] as { flags?: string } | undefined)?.flags ?? optionName(name)) as RegExpExecArray;
    const value = command.getOptionValue(camel(own[1] as string));
    if (value === undefined) continue;
    const takesJson = notationOf(name, fieldOf(schema as unknown as FieldSchema)).placeholder === ' <json>';
    values[name] = takesJson && typeof value === 'string' ? await readJson(value) : value;
  }
  return values;
}

const camel = (flag: string) => flag.replace(/-([a-z])/g, (_, letter: string) => letter.toUpperCase());

/** Path parameters: arguments of the command, and the environment it works in. */
export function pathParams(operation: Pick<Any, 'path'>, command: Command): Record<string, string> {
  const options = globalsOf(command);
  const needs = (name: string) => operation.path.includes(`{${name}}`);
  const place = needs('environment') ? environmentOf(options) : needs('app') ? { app: options.app ?? environmentOf(options).app } : {};
  const named = pathArguments(operation).map((name, i) => [name, command.args[i] as string]);
  return { ...place, ...Object.fromEntries(named) };
}

/** The fields of a body; of one that has several forms, those of all of them, and only what all of them need is needed. */
function shapeOf(schema: BodySchema | undefined): Schema['shape'] {
  if (!schema) return {};
  if (schema.shape) return schema.shape;
  const { options, innerType, out } = schema.def;
  if (!options) return shapeOf(innerType ?? out);
  const shapes = options.map(shapeOf);
  const merged = Object.assign({}, ...[...shapes].reverse()) as Schema['shape'];
  return Object.fromEntries(
    Object.entries(merged).map(([name, field]) => {
      const isKind = (field as unknown as FieldSchema).def.type === 'literal';
      return [name, !isKind && shapes.every((one) => name in one) ? field : (field as unknown as Optionable).optional()];
    }),
  ) as Schema['shape'];
}
type BodySchema = { shape?: Schema['shape']; def: { options?: BodySchema[]; innerType?: BodySchema; out?: BodySchema } };
type Optionable = { optional: () => Schema['shape'][string] };

/** The fields of a body that are options. */
function bodyShape(operation: Any): Schema['shape'] {
  const shape = shapeOf(operation.body as unknown as BodySchema | undefined);
  const { bodyArguments } = commandWords(operation);
  // A body that is given whole needs no options for its parts.
  if (bodyArguments.includes(JSON_ARGUMENT)) return {};
  return Object.fromEntries(Object.entries(shape).filter(([name]) => !bodyArguments.includes(name))) as Schema['shape'];
}

/** Arguments that belong to the body: fields of it, or all of it. */
async function argumentsOfBody(operation: Any, command: Command): Promise<Record<string, unknown>> {
  const { bodyArguments } = commandWords(operation);
  const values = command.args.slice(pathArguments(operation).length);
  if (bodyArguments.includes(JSON_ARGUMENT)) return readObject(values[0] as string);
  const { shape } = operation.body as Schema;
  return Object.fromEntries(
    bodyArguments.map((name, i) => [name, readArgument(shape[name] as unknown as FieldSchema, values[i] as string)]),
  );
}

function readArgument(schema: FieldSchema, text: string): unknown {
  try {
    return notationOf('', fieldOf(schema)).parse?.(text) ?? text;
  } catch (error) {
    throw error instanceof InvalidArgumentError ? new CommandError(error.message, 2) : error;
  }
}

function run(command: Command, work: (options: GlobalOptions) => Promise<void>): Command {
  return command.action(() => work(globalsOf(command)));
}

async function callFrom<O extends Any>(
  operation: O,
  command: Command,
  texts: OptionTexts | undefined,
  more: object = {},
  also: Record<string, unknown> = {},
): Promise<ReplyOf<O>> {
  const query = { ...(await given(command, operation.query.shape, texts)), ...also };
  const body = operation.body
    ? { ...(await argumentsOfBody(operation, command)), ...(await given(command, bodyShape(operation), texts)), ...more }
    : undefined;
  const options = globalsOf(command);
  const { client } = signedIn(options);
  const params = await withIds(client, pathParams(operation, command));
  const { onProgress, stop } = callProgress(options);
  try {
    return await client.call(operation, { params, query, ...(body ? { body } : {}), onProgress } as unknown as CallInput<O>);
  } finally {
    stop();
  }
}

/** `noun list`: items as a table; the head of a column that is a field is the field's name. */
export function addList<O extends Any>(
  program: Command,
  operation: O,
  columns: Columns<Listed<O>> | ((items: Listed<O>[], command: Command) => Columns<Listed<O>>),
  own: Common & {
    /** Printed for the person afterwards. */
    hint?: (reply: ReplyOf<O>) => string | undefined;
  } = {},
): Command {
  const command = commandFor(program, operation, own.about);
  addOptions(command, operation.query.shape, own.options);
  return run(command, async (options) => {
    const page = (await callFrom(own.instead?.(command) ?? operation, command, own.options, {}, own.query?.(command))) as {
      items: Listed<O>[];
      next?: string;
    };
    printList(page.items, typeof columns === 'function' ? columns(page.items, command) : columns, options, page.next);
    const hint = own.hint?.(page as ReplyOf<O>);
    if (hint) note(hint, options);
  });
}

/** A command that makes one call and prints what comes back: `show`, `add`, `change` and other verbs. */
export function addCall<O extends Any>(
  program: Command,
  operation: O,
  own: Common & {
    /** The part of the response that is printed; without this, and with `--json`, all of it. */
    show?: (reply: ReplyOf<O>) => Record<string, unknown>;
    /** Prints in a form of its own instead. */
    print?: (reply: ReplyOf<O>, options: GlobalOptions, command: Command) => void;
    /** Fields of the body that are not options, such as a password read from a prompt. */
    more?: (command: Command) => Promise<Partial<BodyInputOf<O>>>;
    /** Printed for the person afterwards. */
    hint?: (reply: ReplyOf<O>, params: Record<string, string>) => string | undefined;
  } = {},
): Command {
  const command = commandFor(program, operation, own.about);
  addOptions(command, operation.query.shape, own.options);
  addOptions(command, bodyShape(operation), own.options, operation.method === 'PATCH');
  return run(command, async (options) => {
    const more = (await own.more?.(command)) ?? {};
    if (operation.method === 'PATCH' && !commandWords(operation).bodyArguments.length)
      demandChange(command, operation, await given(command, bodyShape(operation), own.options), more);
    const reply: ReplyOf<O> = await callFrom(own.instead?.(command) ?? operation, command, own.options, more);
    if (own.print) own.print(reply, options, command);
    else if (reply) printItem(own.show && !options.json ? own.show(reply) : (reply as Record<string, unknown>), options);
    const hint = own.hint?.(reply, pathParams(operation, command));
    if (hint) note(hint, options);
  });
}

function demandChange(command: Command, operation: Any, values: object, more: object): void {
  if (Object.keys({ ...values, ...more }).length > 0) return;
  const names = Object.keys(bodyShape(operation) ?? {}).map(optionName);
  const known = command.options.map(({ long }) => long).filter((long) => long && !long.startsWith('--no-'));
  throw new CommandError(`There is nothing to change. Give ${(names.length ? known : names).join(', ')}.`, 2);
}

/** A command that deletes something: it asks first, and reports what it did. */
export function addRemoval<O extends Any>(
  program: Command,
  operation: O,
  own: Common & { what: (params: Record<string, string>) => string; done?: (params: Record<string, string>) => string; back?: string },
): Command {
  const command = commandFor(program, operation, own.about).option('--yes', 'do not ask');
  return run(command, async (options) => {
    const params = pathParams(operation, command);
    await confirm(own.what(params), command.opts<{ yes?: boolean }>().yes, own.back);
    const { client } = signedIn(options);
    await client.call(operation, { params: await withIds(client, params) } as unknown as CallInput<O>);
    note(own.done?.(params) ?? `Deleted ${Object.values(params).at(-1)}.`, options);
  });
}
