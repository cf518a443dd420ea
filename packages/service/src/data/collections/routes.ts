/** What the team does with collections: their fields, rules, indexes and views. */
import { type Collection, operations, Problem } from '@orchard/contract';
import { type AccessRules, type Field, type Fields, OWNER_ONLY, RECORD_ACTIONS } from '@orchard/core';
import { authorOf, bind, type Call, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { presentField } from './catalogue.js';
import { Indexes } from './indexes.js';
import { FIELD_RULES, readRule, type RuleGround } from './querySql.js';
import { RECOVERY_MS, SchemaChanges } from './schemaChanges.js';
import { type CollectionShape, NO_INDEX_COLUMNS } from './shape.js';
import { readSizes } from './catalogueStore.js';
import { growth } from './sizeStore.js';
import { Views } from './viewStore.js';

type Sizes = { records: number; bytes: number };

export function collectionRoutes(parts: Parts): Route[] {
  return [...collectionCalls(parts), ...schemaCalls(parts), ...indexCalls(parts), ...viewCalls(parts)];
}

function presentCollection(shape: CollectionShape, { records, bytes }: Sizes, grownBy: number | null): Collection {
  return {
    name: shape.name,
    fields: [...shape.fields].map(([name, field]) => presentField(name, field)) as Collection['fields'],
    rules: shape.rules,
    records,
    bytes,
    grownBy,
    indexes: shape.indexes,
    dropped: shape.dropped.map(({ column, name, field, at }) => ({
      column,
      name,
      type: field.type,
      at,
      until: new Date(Date.parse(at) + RECOVERY_MS).toISOString(),
    })),
    createdAt: shape.createdAt.toISOString(),
  };
}

/** Collections as the API shows them. */
async function present(parts: Parts, call: Pick<Call, 'environment'>, shapes: CollectionShape[]): Promise<Collection[]> {
  const environment = environmentOf(call);
  const names = shapes.map(({ name }) => name);
  const [sizes, before] = await Promise.all([readSizes(environment.db, names), growth(parts, environment)]);
  return shapes.map((shape) => {
    const size = sizes.get(shape.name) ?? { records: 0, bytes: 0 };
    const then = before.get(shape.name);
    return presentCollection(shape, size, then === undefined ? null : size.records - then);
  });
}
const presentOne = async (parts: Parts, call: Pick<Call, 'environment'>, shape: CollectionShape) => ({
  body: (await present(parts, call, [shape]))[0] as Collection,
});

const fieldsOf = (named: { name: string }[] = []): Fields => new Map(named.map(({ name, ...field }) => [name, field as Field]));

/** Refuses rules that do not fit the collection's fields. @throws {Problem} malformed-filter */
async function checkRules(parts: Parts, call: Pick<Call, 'environment'>, shape: RuleGround, rules: Partial<AccessRules>): Promise<void> {
  const shapes = await parts.catalogue.shapes(environmentOf(call));
  for (const action of RECORD_ACTIONS) {
    const text = rules[action];
    const rule = text === undefined ? null : readRule(shapes, shape, text);
    if (rule && 'broken' in rule)
      throw new Problem('malformed-filter', `The ${action} rule: ${rule.broken}.`, {
        fields: [
          {
            path: `body.rules.${action}`,
            problem: rule.broken,
            expected: 'a condition in CQL2 over the fields, or everyone, signed-in, owner or nobody',
          },
        ],
      });
  }
}

/** Refuses fields whose own rule does not fit. @throws {Problem} malformed-filter */
async function checkFieldRules(parts: Parts, call: Pick<Call, 'environment'>, shape: RuleGround, names: readonly string[]): Promise<void> {
  const shapes = await parts.catalogue.shapes(environmentOf(call));
  for (const name of names)
    for (const which of FIELD_RULES) {
      const text = shape.fields.get(name)?.[which];
      const rule = text === undefined ? null : readRule(shapes, shape, text);
      if (rule && 'broken' in rule)
        throw new Problem('malformed-filter', `The rule for ${which === 'setBy' ? 'setting' : 'seeing'} \`${name}\`: ${rule.broken}.`, {
          fields: [
            {
              path: `${name}.${which}`,
              problem: rule.broken,
              expected: 'a condition in CQL2 over the fields, or signed-in, owner or nobody',
            },
          ],
        });
    }
}

/** Changes of tables are no transactions; entries before and after them have the collection without its sizes. */
const auditedTables = (parts: Parts) => ({
  as: 'apart' as const,
  read: async (call: Naming<{ app: string; collection?: string }> & { body?: unknown }) => {
    const name = call.params.collection ?? (call.body as { name: string }).name;
    const shape = await parts.catalogue.find(environmentOf(call), name);
    if (!shape) return null;
    const { records: _r, bytes: _b, grownBy: _g, ...document } = presentCollection(shape, { records: 0, bytes: 0 }, null);
    return document;
  },
});

/** A collection that is no table of the environment. */
const elsewhere = async (
  parts: Parts,
  call: Pick<Call, 'environment'> & { params: { collection: string } },
): Promise<Collection | undefined> =>
  (await parts.collectionPorts.elsewhere(environmentOf(call))).find(({ name }) => name === call.params.collection);

function collectionCalls(parts: Parts): Route[] {
  const own = operations.collections;
  const audited = auditedTables(parts);
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      const own = await present(parts, call, await parts.catalogue.all(environment));
      return { body: { items: [...own, ...(await parts.collectionPorts.elsewhere(environment))] } };
    }),
    bind(own.read, async (call) => {
      const outside = await elsewhere(parts, call);
      return outside ? { body: outside } : presentOne(parts, call, await parts.catalogue.get(environmentOf(call), call.params.collection));
    }),
    bind(
      own.create,
      async (call) => {
        const { name, fields, rules } = call.body;
        const outside = (await parts.collectionPorts.elsewhere(environmentOf(call))).some((one) => one.name === name);
        if (outside || (await parts.catalogue.find(environmentOf(call), name)))
          throw new Problem('already-exists', `There is a collection \`${name}\` already.`);
        const wanted = { name, fields: fieldsOf(fields), indexed: NO_INDEX_COLUMNS };
        await checkRules(parts, call, wanted, rules ?? {});
        await checkFieldRules(parts, call, wanted, [...wanted.fields.keys()]);
        const shape = await parts.catalogue.extend(environmentOf(call), name, fieldsOf(fields), [], {
          ...OWNER_ONLY,
          ...rules,
        } as AccessRules);
        return presentOne(parts, call, shape);
      },
      audited,
    ),
    bind(
      own.patch,
      async (call) => {
        const environment = environmentOf(call);
        if (await elsewhere(parts, call)) {
          await parts.collectionPorts.changeElsewhere(environment, call.params.collection, call.body as never);
          return { body: (await elsewhere(parts, call)) as Collection };
        }
        let shape = await parts.catalogue.get(environment, call.params.collection);
        const added = fieldsOf(call.body.addFields);
        const wanted = { ...shape, fields: new Map([...shape.fields, ...added]) };
        await checkRules(parts, call, wanted, call.body.rules ?? {});
        await checkFieldRules(parts, call, wanted, [...added.keys()]);
        if (call.body.addFields) shape = await parts.catalogue.extend(environment, shape.name, fieldsOf(call.body.addFields));
        if (call.body.rules)
          shape = await parts.catalogue.changeRules(environment, shape.name, { ...shape.rules, ...call.body.rules } as AccessRules);
        return presentOne(parts, call, shape);
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        await parts.catalogue.remove(environmentOf(call), call.params.collection);
        parts.changes.wake(environmentOf(call).id);
        return { body: undefined };
      },
      audited,
    ),
  ];
}

function schemaCalls(parts: Parts): Route[] {
  const own = operations.collections;
  const schema = new SchemaChanges(parts);
  const audited = auditedTables(parts);
  return [
    bind(own.schema, async (call) => ({
      body: schema.schemaOf(environmentOf(call), await parts.catalogue.get(environmentOf(call), call.params.collection)),
    })),
    bind(own.previewSchema, async (call) => {
      const changes = await schema.changesTo(environmentOf(call), call.params.collection, call.body);
      return {
        body: { changes: await Promise.all(changes.map((change) => schema.preview(environmentOf(call), call.params.collection, change))) },
      };
    }),
    bind(
      own.putSchema,
      async (call) => {
        const environment = environmentOf(call);
        const { collection } = call.params;
        const changes = await schema.changesTo(environment, collection, call.body);
        // Everything is checked before anything is changed.
        for (const change of changes) {
          const { blocked, misfits } = await schema.preview(environment, collection, change);
          if (blocked) throw new Problem('invalid-input', blocked);
          if (misfits > 0 && call.query.misfits === 'refuse') await schema.apply(environment, collection, change, 'refuse');
        }
        for (const change of changes) await schema.apply(environment, collection, change, call.query.misfits);
        return { body: schema.schemaOf(environment, await parts.catalogue.get(environment, collection)) };
      },
      audited,
    ),
    bind(own.previewChange, async (call) => ({ body: await schema.preview(environmentOf(call), call.params.collection, call.body) })),
    bind(
      own.change,
      async (call) =>
        presentOne(parts, call, await schema.apply(environmentOf(call), call.params.collection, call.body, call.query.misfits)),
      audited,
    ),
  ];
}

function indexCalls(parts: Parts): Route[] {
  const own = operations.collections;
  const indexes = new Indexes(parts);
  const audited = auditedTables(parts);
  return [
    bind(
      own.addIndex,
      async (call) => ({
        body: await indexes.add(environmentOf(call), call.params.collection, call.body),
      }),
      audited,
    ),
    bind(
      own.removeIndex,
      async (call) => {
        await indexes.remove(environmentOf(call), call.params.collection, call.params.index);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.advice, async (call) => ({ body: { items: await indexes.advice(environmentOf(call), call.params.collection) } })),
  ];
}

function viewCalls(parts: Parts): Route[] {
  const own = operations.collections;
  const views = new Views(parts);
  const viewOf = async (call: Naming<{ collection: string; view: string }>) =>
    (await views.list(environmentOf(call), call.params.collection)).find(({ id }) => id === call.params.view) ?? null;
  return [
    bind(own.views, async (call) => ({ body: { items: await views.list(environmentOf(call), call.params.collection) } })),
    bind(own.saveView, async (call) => ({
      body: await views.save(environmentOf(call), call.params.collection, call.body, authorOf(call)),
    })),
    bind(
      own.removeView,
      async (call) => {
        await views.remove(environmentOf(call), call.params.view);
        return { body: undefined };
      },
      { read: viewOf },
    ),
  ];
}
