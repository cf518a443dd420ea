/** A sample of another environment's records: enough to try things on, and nothing of anybody. */
import { type Collection, operations, type ReplyOf, type Role } from '@orchard/contract';
import { type Field, type JsonObject, madeUpPerson, sampled } from '@orchard/core';
import { type Call, environmentOf, type SignedInMember } from '../../platform/call.js';
import { callsOf, callsThere, type SetupCalls } from './calls.js';
import { inOrderOf } from './kinds/collections.js';
import type { Parts } from './parts.js';

type Reply = ReplyOf<typeof operations.setups.sample>;
/** Stand-ins for the users of the records, who are many. */
const MOST_USERS = 50;

/** @throws {Problem} not-found, role-insufficient */
export async function takeSample(parts: Parts, call: Call, from: string, records: number): Promise<Reply> {
  const member = call.member as SignedInMember;
  const here = callsOf(parts, environmentOf(call), { member, role: call.role as Role });
  const [app = '', name = ''] = from.split('/');
  const there = await callsThere(parts, member, app, name);
  const random = () => parts.random(4).readUInt32BE() / 2 ** 32;
  const [given, present] = await Promise.all([there.read(operations.collections.list), here.read(operations.collections.list)]);
  const known = new Map(present.items.map((collection) => [collection.name, collection]));
  const users = new StandIns(here, random);
  const stored = new Map<string, ReadonlySet<string>>();
  const collections: Reply['collections'] = [];
  for (const { name } of inOrder(given.items.filter((one) => !one.outside && known.has(one.name)))) {
    const target = known.get(name) as Collection;
    if (target.records > 0) {
      collections.push({ name, stored: 0, rejected: 0, left: true });
      continue;
    }
    const { items } = await there.read(operations.managedRecords.list, {
      params: { collection: name },
      query: { limit: String(records), sort: '-createdAt' },
    });
    await users.prepare(items as unknown as JsonObject[], target);
    const fields = new Map(target.fields.map(({ name: field, ...definition }) => [field, definition as Field]));
    const taken = (items as unknown as JsonObject[]).map((record) => ({
      id: String(record.id),
      record: inSample(sampled(record, fields, users.of, random), target, stored),
    }));
    const ids = await store(here, name, taken);
    stored.set(name, ids);
    collections.push({ name, stored: ids.size, rejected: taken.length - ids.size, left: false });
  }
  return { users: users.count, collections };
}

const inOrder = (collections: readonly Collection[]) =>
  inOrderOf(
    collections.map(({ name, fields }) => ({
      name,
      before: null,
      after: { fields: Object.fromEntries(fields.map(({ name: field, ...definition }) => [field, definition as JsonObject])) },
    })),
  );

/** Without references to records that are not in the sample. */
function inSample(record: JsonObject, { fields }: Collection, stored: ReadonlyMap<string, ReadonlySet<string>>): JsonObject {
  const left = new Set(
    fields.flatMap(({ name, type, to }) =>
      type === 'reference' && to !== 'users' && record[name] !== undefined && !stored.get(String(to))?.has(String(record[name]))
        ? [name]
        : [],
    ),
  );
  return Object.fromEntries(Object.entries(record).filter(([name]) => !left.has(name)));
}

/** @returns ids of those that fitted */
async function store(here: SetupCalls, collection: string, taken: { id: string; record: JsonObject }[]): Promise<Set<string>> {
  if (taken.length === 0) return new Set();
  const actions = taken.map(({ id, record }) => ({ action: 'put' as const, id, record }));
  const { results } = await here.write(operations.managedRecords.batch, { params: { collection }, body: { together: false, actions } });
  return new Set(results.flatMap(({ problem }, i) => (problem ? [] : [taken[i]?.id as string])));
}

/** Made-up users in place of those whom records refer to: the same one for the same user. */
class StandIns {
  readonly #made: string[] = [];
  readonly #byUser = new Map<string, string>();

  constructor(
    private readonly here: SetupCalls,
    private readonly random: () => number,
  ) {}

  get count(): number {
    return this.#made.length;
  }

  readonly of = (id: string): string | null => this.#byUser.get(id) ?? null;

  async prepare(records: readonly JsonObject[], { fields }: Collection): Promise<void> {
    const names = fields.flatMap(({ name, type, to }) => (type === 'reference' && to === 'users' ? [name] : []));
    const ids = new Set(records.flatMap((record) => names.map((name) => record[name])).filter((id) => typeof id === 'string'));
    for (const id of ids) {
      if (this.#byUser.has(id)) continue;
      if (this.#made.length < MOST_USERS) {
        const body = madeUpPerson(this.random, Math.floor(this.random() * 1e9));
        this.#made.push((await this.here.write(operations.users.create, { body })).id);
      }
      this.#byUser.set(id, this.#made[this.#byUser.size % this.#made.length] as string);
    }
  }
}
