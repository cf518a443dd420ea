/** Secrets of an environment: set by the team, read by functions, and shown to nobody. */
import { operations, Problem } from '@orchard/contract';
import { seal, unseal } from '../../platform/access/secrets.js';
import { authorOf, bind, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { LRUCache } from 'lru-cache';
import { CallRefused } from './callRefused.js';
import type { Ground } from './ground.js';
import type { Parts } from './parts.js';
import type { SecretRow } from './rows.js';

const MOST_SECRETS = 200;
const secretContext = ({ sealedFor: id }: Environment, name: string) => `${id}:secret:${name}`;

/** Another instance's change may go unnoticed for this long: upstreams need theirs with each call. */
const REMEMBER_MS = 1_000;
const kept = new LRUCache<string, string>({ max: 1_000, ttl: REMEMBER_MS });

/** Reads the values of secrets, for a run. */
export const secretOf =
  ({ store }: Pick<Ground, 'store'>, environment: Environment) =>
  async (name: string) => {
    const context = secretContext(environment, name);
    const known = kept.get(context);
    if (known !== undefined) return known;
    const row = await store.secret(environment, name);
    if (!row) throw new CallRefused(`There is no secret ${name} in this environment.`);
    const value = unseal(environment.keys.data, context, row.sealed).toString();
    kept.set(context, value);
    return value;
  };

export function secretRoutes(parts: Parts, { store }: Ground): Route[] {
  const own = operations.functions;
  const present = ({ actors }: Environment, { name, changedBy, changedAt }: SecretRow) => ({
    name,
    changedBy: actors.show(changedBy),
    changedAt: changedAt.toISOString(),
  });
  const audited = {
    read: async (call: Naming<{ secret: string }>) => {
      const row = await store.secret(environmentOf(call), call.params.secret);
      return row ? present(environmentOf(call), row) : null;
    },
  };
  return [
    bind(own.secrets, async (call) => ({
      body: { items: (await store.secrets(environmentOf(call))).map((row) => present(environmentOf(call), row)) },
    })),
    bind(
      own.putSecret,
      async (call) => {
        const environment = environmentOf(call);
        const { secret: name } = call.params;
        const known = await store.secrets(environment);
        if (known.length >= MOST_SECRETS && !known.some((row) => row.name === name))
          throw new Problem('wrong-state', `There are ${MOST_SECRETS} secrets here already. Delete one that is no longer needed.`);
        const sealed = seal(environment.keys.data, secretContext(environment, name), call.body.value);
        const row: SecretRow = { name, sealed, changedBy: authorOf(call), changedAt: new Date(parts.now()) };
        await store.putSecret(environment, row);
        kept.delete(secretContext(environment, name));
        return { body: present(environment, row) };
      },
      audited,
    ),
    bind(
      own.removeSecret,
      async (call) => {
        kept.delete(secretContext(environmentOf(call), call.params.secret));
        if (!(await store.removeSecret(environmentOf(call), call.params.secret)))
          throw new Problem('not-found', `There is no secret ${call.params.secret}.`);
        return { body: undefined };
      },
      audited,
    ),
  ];
}
