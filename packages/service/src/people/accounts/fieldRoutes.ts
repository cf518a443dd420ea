/** Defining the fields of users. */
import { type NamedUserField, operations, Problem } from '@orchard/contract';
import { checkField, type JsonObject, misfitOf } from '@orchard/core';
import type { UserField } from '@orchard/core/accounts';
import { bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { fieldsIn, userFields } from '../users/fields.js';
import type { Parts } from './parts.js';

/** Names of what every user has; a filter means that. */
const TAKEN = new Set([
  'id',
  'email',
  'name',
  'phone',
  'roles',
  'disabled',
  'data',
  'createdAt',
  'updatedAt',
  'lastSeenAt',
  'emailConfirmedAt',
  'deleteAt',
  'terms',
]);
const MOST = 50;

const named = (name: string, field: UserField): NamedUserField => ({ name, ...(field as Omit<NamedUserField, 'name'>) });

export function fieldRoutes(parts: Parts): Route[] {
  const own = operations.accounts;
  const write = async (environment: Environment, how: (fields: Record<string, UserField>) => Record<string, UserField>) => {
    userFields.forget(environment);
    await userFields.write(environment, { fields: how(await fieldsIn(environment)) }, new Date(parts.now()));
    // Rules and sessions read them anew.
    parts.userTokens.forgetAll(environment);
  };
  const one = async (environment: Environment, name: string) => {
    const field = (await fieldsIn(environment))[name];
    return field ? named(name, field) : null;
  };
  return [
    bind(own.fields, async (call) => ({
      body: { items: Object.entries(await fieldsIn(environmentOf(call))).map(([name, field]) => named(name, field)) },
    })),
    bind(
      own.defineField,
      async (call) => {
        const environment = environmentOf(call);
        const { field: name } = call.params;
        const field = call.body as UserField;
        demandField(name, field, Object.keys(await fieldsIn(environment)));
        await write(environment, (fields) => ({ ...fields, [name]: field }));
        return { body: { ...named(name, field), misfits: await countMisfits(parts, environment, name, field) } };
      },
      { read: (call) => one(environmentOf(call), call.params.field) },
    ),
    bind(
      own.removeField,
      async (call) => {
        const environment = environmentOf(call);
        const { field: name } = call.params;
        if (!(await one(environment, name))) throw new Problem('not-found', `Users have no field \`${name}\` that the team has defined.`);
        await write(environment, ({ [name]: _gone, ...fields }) => fields);
        return { body: undefined };
      },
      { read: (call) => one(environmentOf(call), call.params.field) },
    ),
  ];
}

/** @throws {Problem} invalid-input */
function demandField(name: string, field: UserField, known: readonly string[]): void {
  const refuse = (path: string, problem: string, expected: string) => {
    throw new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });
  };
  if (TAKEN.has(name)) refuse('params.field', `Every user has \`${name}\` already.`, 'another name');
  if (!known.includes(name) && known.length >= MOST) refuse('params.field', `Users have ${MOST} fields at most.`, 'fewer fields');
  const { description: _d, seenBy: _s, changedBy: _c, ...shape } = field;
  const [problem] = checkField(name, shape);
  if (problem) refuse(`body.${problem.path.split('.').at(-1)}`, problem.problem, problem.expected);
}

const AT_ONCE = 1_000;

/** How many users have a value of before that does not fit. */
async function countMisfits({ userStore }: Parts, environment: Environment, name: string, field: UserField): Promise<number> {
  let misfits = 0;
  for (let after = ''; ; ) {
    const rows = await userStore.dataAfter(environment, after, AT_ONCE);
    for (const { data } of rows) {
      const value = (data as JsonObject)[name];
      if (value !== undefined && misfitOf('users', name, field, value)) misfits++;
    }
    if (rows.length < AT_ONCE) return misfits;
    after = rows.at(-1)?.id as string;
  }
}
