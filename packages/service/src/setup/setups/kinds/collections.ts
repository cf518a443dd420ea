/** Collections: their tables, fields, rules and indexes. */
import { type Collection, counted, operations, type SchemaChange } from '@orchard/contract';
import {
  canonical,
  isPlainObject,
  type Json,
  type JsonObject,
  likelyRenames,
  renamed as withNewNames,
  type SetupChange,
  type SetupEffect,
} from '@orchard/core';
import type { SetupCalls } from '../calls.js';
import { type Judgement, type KindWays, type NamedParts, type Step, without } from './kind.js';

const own = operations.collections;
type Fields = { [name: string]: JsonObject };
type Index = { fields: string[]; search?: boolean; unique?: boolean };

const fieldsOf = (part: JsonObject | null | undefined): Fields => (part?.fields ?? {}) as Fields;
const indexesOf = (part: JsonObject | null | undefined): Index[] => (part?.indexes ?? []) as unknown as Index[];
const sameIndex = (a: Index, b: Index) => canonical(a as unknown as Json) === canonical(b as unknown as Json);

/** What a definition says that goes without saying. */
const PLAIN: { [member: string]: Json } = {
  required: false,
  unique: false,
  hidden: false,
  personal: false,
  onDelete: 'restrict',
  withRecord: 'keep',
};
export const plainField = (field: JsonObject): JsonObject => without(field, PLAIN);

function normal(part: JsonObject): JsonObject {
  const fields = Object.fromEntries(Object.entries(fieldsOf(part)).map(([name, field]) => [name, plainField(field)]));
  const indexes = indexesOf(part).map(({ fields, search, unique }) => ({
    fields,
    ...(search ? { search } : {}),
    ...(unique ? { unique } : {}),
  }));
  return { fields, rules: part.rules as Json, indexes: indexes.sort((a, b) => (canonical(a) < canonical(b) ? -1 : 1)) };
}

function asPart({ fields, rules, indexes }: Collection): JsonObject {
  return normal({
    fields: Object.fromEntries(fields.map(({ name, ...field }) => [name, field as JsonObject])),
    rules,
    // Those of constraints, of owners, references and unique fields, come and go with what they serve.
    indexes: indexes
      .filter(({ name }) => !name.startsWith('_'))
      .map(({ fields: over, kind }) => ({
        fields: over,
        ...(kind === 'search' ? { search: true } : {}),
        ...(kind === 'unique' ? { unique: true } : {}),
      })),
  });
}

/** Those of the environment; a table of another server is set up where that server is known. */
async function read(calls: SetupCalls): Promise<NamedParts> {
  const { items } = await calls.read(own.list);
  return Object.fromEntries(items.filter(({ outside }) => !outside).map((collection) => [collection.name, asPart(collection)]));
}

const change =
  (name: string, body: SchemaChange, misfits: 'refuse' | 'clear' = 'refuse') =>
  (calls: SetupCalls) =>
    calls.write(own.change, { params: { collection: name }, query: { misfits }, body });
const asFields = (fields: Fields) => Object.entries(fields).map(([name, field]) => ({ name, ...field }));

/** References to collections that are not there yet wait until all are. */
const waits = (field: JsonObject, present: ReadonlySet<string>): boolean =>
  field.type === 'reference' && field.to !== 'users' && !present.has(String(field.to));

/** @param present collections that are there by then */
function makeSteps({ name, after }: SetupChange, present: ReadonlySet<string>): Step[] {
  const fields = fieldsOf(after);
  const later = Object.fromEntries(Object.entries(fields).filter(([, field]) => waits(field, present)));
  const first = Object.fromEntries(Object.entries(fields).filter(([field]) => !Object.hasOwn(later, field)));
  const isWhole = Object.keys(later).length === 0;
  const params = { collection: name };
  return [
    {
      phase: 'make',
      text: `Create the collection ${name}`,
      run: (calls) =>
        calls.write(own.create, {
          body: { name, fields: asFields(first), ...(isWhole ? { rules: after?.rules } : {}) },
        }),
    },
    ...(isWhole
      ? []
      : [
          {
            phase: 'fill' as const,
            text: `Add references and rules of ${name}`,
            run: (calls: SetupCalls) => calls.write(own.patch, { params, body: { addFields: asFields(later), rules: after?.rules } }),
          },
        ]),
    ...indexSteps(name, indexesOf(after), []),
  ];
}

function indexSteps(name: string, added: Index[], removed: Index[]): Step[] {
  return [
    ...removed.map((index) => ({
      phase: 'fill' as const,
      text: `Drop the index of ${name} over ${index.fields.join(', ')}`,
      run: async (calls: SetupCalls) => {
        const { indexes } = await calls.read(own.read, { params: { collection: name } });
        const found = indexes.find(
          (one) => canonical(one.fields) === canonical(index.fields) && (one.kind === 'search') === Boolean(index.search),
        );
        if (found) await calls.write(own.removeIndex, { params: { collection: name, index: found.name } });
      },
    })),
    ...added.map((index) => ({
      phase: 'fill' as const,
      beside: 'index',
      text: `Build the index of ${name} over ${index.fields.join(', ')}`,
      run: (calls: SetupCalls) => calls.write(own.addIndex, { params: { collection: name }, body: index }),
    })),
  ];
}

/** What becomes of fields, by what was named and what is now. */
function fieldChanges({ before, after, renames }: SetupChange) {
  const was = new Map(Object.entries(renames));
  const [old, fresh] = [fieldsOf(before), fieldsOf(after)];
  const former = (name: string) => was.get(name) ?? name;
  const names = Object.keys(fresh);
  const gone = new Set([...was.values()]);
  return {
    renamed: [...was],
    added: names.filter((name) => !Object.hasOwn(old, former(name))),
    set: names.filter(
      (name) => Object.hasOwn(old, former(name)) && canonical(old[former(name)] as Json) !== canonical(fresh[name] as Json),
    ),
    dropped: Object.keys(old).filter((name) => !Object.hasOwn(fresh, name) && !gone.has(name)),
    fresh,
  };
}

function changeSteps(changed: SetupChange): Step[] {
  const { name, before, after } = changed;
  const { renamed, added, set, dropped, fresh } = fieldChanges(changed);
  const params = { collection: name };
  const rules = canonical((before?.rules ?? null) as Json) === canonical((after?.rules ?? null) as Json) ? undefined : after?.rules;
  const [now, wanted] = [indexesOf(before && withNewNames(before, changed.renames)), indexesOf(after)];
  return [
    ...renamed.map(([to, from]) => ({
      phase: 'make' as const,
      text: `Rename ${name}.${from} to ${to}`,
      run: change(name, { change: 'rename', name: from, to }),
    })),
    ...added.map((field) => ({
      phase: 'make' as const,
      text: `Add ${name}.${field}`,
      run: (calls: SetupCalls) => addField(calls, name, field, fresh[field] as JsonObject),
    })),
    ...set.map((field) => ({
      phase: 'fill' as const,
      text: `Change ${name}.${field}`,
      // What does not fit was told, and the member said that it may be lost.
      run: change(name, { change: 'set', name: field, field: fresh[field] as never }, 'clear'),
    })),
    ...(rules === undefined
      ? []
      : [
          {
            phase: 'fill' as const,
            text: `Change the rules of ${name}`,
            run: (calls: SetupCalls) => calls.write(own.patch, { params, body: { rules } }),
          },
        ]),
    ...indexSteps(
      name,
      wanted.filter((index) => !now.some((one) => sameIndex(one, index))),
      now.filter((index) => !wanted.some((one) => sameIndex(one, index))),
    ),
    ...dropped.map((field) => ({
      phase: 'drop' as const,
      text: `Drop ${name}.${field}`,
      run: change(name, { change: 'drop', name: field }),
    })),
  ];
}

/** A field that was dropped a while ago comes back with its values. */
async function addField(calls: SetupCalls, collection: string, name: string, field: JsonObject): Promise<void> {
  const { dropped } = await calls.read(own.read, { params: { collection } });
  const kept = dropped.find((one) => one.name === name && one.type === field.type);
  if (!kept) {
    await change(collection, { change: 'add', name, field: field as never })(calls);
    return;
  }
  await change(collection, { change: 'recover', column: kept.column, as: name })(calls);
  const now = (await calls.read(own.read, { params: { collection } })).fields.find((one) => one.name === name);
  const { name: _, ...definition } = now ?? { name };
  if (canonical(plainField(definition as JsonObject)) !== canonical(field))
    await change(collection, { change: 'set', name, field: field as never })(calls);
}

/** Rows that a build of an index passes in a millisecond, measured on a small machine; writers do not wait for it. */
const INDEXED_ROWS_A_MS = 100;

/** The longest that a swap of columns has held writers up. */
const SWAP_MS = 100;

async function judge(changed: SetupChange, calls: SetupCalls): Promise<Judgement> {
  const { name, action, before, after } = changed;
  if (action === 'make') return { effects: [] };
  const { records } = await calls.read(own.read, { params: { collection: name } });
  if (action === 'drop')
    return {
      effects:
        records > 0
          ? [{ text: `${counted(records, 'record')} ${records === 1 ? 'is' : 'are'} deleted with it`, loses: true, lockMs: 0, records }]
          : [],
    };
  const { added, set, dropped, renamed, fresh } = fieldChanges(changed);
  const former = new Map(renamed);
  const effects: SetupEffect[] = [];
  const blocks: string[] = [];
  const look = async (body: SchemaChange, told: (misfits: number) => string, isLoss: boolean) => {
    const { misfits, examples, notes, blocked } = await calls.read(own.previewChange, { params: { collection: name }, body });
    if (blocked) blocks.push(blocked);
    const affected = isLoss ? records : misfits;
    if (affected > 0 || notes.length > 0)
      effects.push({
        text: [affected > 0 ? told(affected) : '', ...notes.map((note) => note.replace(/\.$/, ''))].filter(Boolean).join('. '),
        loses: affected > 0,
        lockMs: 0,
        ...(affected > 0 ? { records: affected, examples: examples.map(({ id, value, problem }) => ({ id, value, problem })) } : {}),
      });
  };
  const typeOf = (part: JsonObject | null, field: string) => fieldsOf(part)[field]?.type;
  for (const field of set) {
    const [was, is] = [typeOf(before, former.get(field) ?? field), typeOf(after, field)];
    // A new column is filled beside the old one, and takes its place at the end.
    if (was !== is && records > 0)
      effects.push({ text: `${field} becomes ${is} instead of ${was}; writers wait up to ${SWAP_MS} ms`, loses: false, lockMs: SWAP_MS });
    await look(
      { change: 'set', name: former.get(field) ?? field, field: fresh[field] as never },
      (misfits) =>
        `${misfits} of ${counted(records, 'record')} ${misfits === 1 ? 'does' : 'do'} not fit ${field}: what does not is cleared`,
      false,
    );
  }
  for (const field of dropped) await look({ change: 'drop', name: field }, (of) => `${field} of ${counted(of, 'record')} is dropped`, true);
  for (const field of added)
    if ((fresh[field] as JsonObject).required)
      await look(
        { change: 'add', name: field, field: fresh[field] as never },
        (misfits) => `${counted(misfits, 'record')} ${misfits === 1 ? 'has' : 'have'} no ${field}`,
        false,
      );
  const built = indexesOf(after).filter((index) => !indexesOf(before).some((one) => sameIndex(one, index)));
  if (built.length > 0 && records > 0)
    effects.push({
      text: `${built.length} ${built.length === 1 ? 'index is' : 'indexes are'} built over ${counted(records, 'record')}, in about ${Math.ceil(records / INDEXED_ROWS_A_MS)} ms; writers do not wait`,
      loses: false,
      lockMs: 0,
    });
  return {
    effects,
    blocked: blocks[0] ?? null,
    hints: likelyRenames(changed).map(
      ({ field, was }) => `If ${field} is the new name of ${was}, say \`was: ${was}\` in ${field}: its values stay then.`,
    ),
  };
}

export const collectionWays: KindWays = {
  read,
  normal: (part) => normal(isPlainObject(part) ? part : {}),
  steps: (changes, _wanted, now) => {
    const present = now.collections ?? {};
    const drops = changes.filter(({ action }) => action === 'drop');
    return [
      ...inOrderOf(changes.filter(({ action }) => action === 'make')).flatMap((one, i, made) =>
        makeSteps(one, new Set([...Object.keys(present), ...made.slice(0, i).map(({ name }) => name), one.name])),
      ),
      ...changes.filter(({ action }) => action === 'change').flatMap(changeSteps),
      // Those that refer to others go before them.
      ...inOrderOf(drops)
        .toReversed()
        .map(({ name }) => ({
          phase: 'drop' as const,
          text: `Delete the collection ${name}`,
          run: (calls: SetupCalls) => calls.write(own.remove, { params: { collection: name } }),
        })),
    ];
  },
  judge,
};

/** Each after those that it refers to. In a circle of references one has to come first: its own are added later. */
export function inOrderOf<C extends Pick<SetupChange, 'name' | 'before' | 'after'>>(changes: readonly C[]): C[] {
  const byName = new Map(changes.map((change) => [change.name, change]));
  const ordered = new Set<C>();
  const seen = new Set<string>();
  const place = (change: C): void => {
    if (seen.has(change.name)) return;
    seen.add(change.name);
    for (const { type, to } of Object.values(fieldsOf(change.after ?? change.before))) {
      const target = type === 'reference' ? byName.get(String(to)) : undefined;
      if (target) place(target);
    }
    ordered.add(change);
  };
  for (const change of changes) place(change);
  return [...ordered];
}
