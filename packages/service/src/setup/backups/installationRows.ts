/**
 * What the installation holds of an environment, beside its database: its own row, its clients and keys, which members have
 * which role, and hosts of its sites. Kept with its backups, so that apps reach it again on a machine that was set up anew.
 */
import { eq } from 'drizzle-orm';
import type { MySqlTable } from 'drizzle-orm/mysql-core';
import { apps, clients, type environments, keys, memberRoles, members, automationTokenRoles } from '../../platform/access/systemTables.js';
import { sealEnvironmentKeys } from '../../platform/access/environmentKeys.js';
import { seal, unseal } from '../../platform/access/secrets.js';
import { hostsOf, moveHosts, returnHost } from '../../data/sites/store.js';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';

type Ground = Pick<Platform, 'database' | 'secretKey' | 'random'>;
type ClientRow = typeof clients.$inferSelect;
type KeyRow = typeof keys.$inferSelect;
type Line =
  | { app: { title: string; secondFactor: boolean } }
  | { environment: { mode: Environment['mode']; widening: boolean; sealedFor: string; keys: { data: string; tokens: string } } }
  | { client: Omit<ClientRow, 'environmentId'> }
  /** `key`: of a client, which is publishable. */
  | { key: Omit<KeyRow, 'environmentId' | 'sealed'> & { key: string | null } }
  | { role: { email: string; role: string } }
  | { host: { host: string; site: string } };

/** As lines of JSON; they hold secrets, and are stored encrypted. */
export async function readKept({ database, secretKey }: Ground, environment: Environment): Promise<string[]> {
  const { orm } = database;
  const { id, mode, widening, sealedFor } = environment;
  const own: Line = {
    environment: {
      mode,
      widening,
      sealedFor,
      keys: { data: environment.keys.data.toString('hex'), tokens: environment.keys.tokens.toString('hex') },
    },
  };
  const [app] = await orm.select({ title: apps.title, secondFactor: apps.secondFactor }).from(apps).where(eq(apps.name, environment.app));
  const [clientRows, keyRows, roles, hosts] = await Promise.all([
    orm.select().from(clients).where(eq(clients.environmentId, id)),
    orm.select().from(keys).where(eq(keys.environmentId, id)),
    orm
      .select({ email: members.email, role: memberRoles.role })
      .from(memberRoles)
      .innerJoin(members, eq(members.id, memberRoles.memberId))
      .where(eq(memberRoles.environmentId, id)),
    hostsOf(database, id),
  ]);
  const lines: Line[] = [
    own,
    ...(app ? [{ app }] : []),
    ...clientRows.map(({ environmentId: _, ...client }) => ({ client })),
    ...keyRows.map(({ environmentId: _, sealed, ...key }) => ({
      key: { ...key, key: sealed && unseal(secretKey, `key:${key.id}`, sealed).toString() },
    })),
    ...roles.map((role) => ({ role })),
    ...hosts.map((host) => ({ host })),
  ];
  return lines.map((line) => JSON.stringify(line));
}

/** What a backup says of the environment itself. */
export type KeptEnvironment = Extract<Line, { environment: unknown }>['environment'];
export type Kept = { environment: KeptEnvironment; clients: Omit<ClientRow, 'environmentId'>[]; lines: Line[] };

export async function parseKept(lines: AsyncIterable<string>): Promise<Kept> {
  const read: Line[] = [];
  for await (const line of lines) read.push(JSON.parse(line) as Line);
  const own = read.find((line) => 'environment' in line) as { environment: KeptEnvironment };
  return { environment: own.environment, clients: read.flatMap((line) => ('client' in line ? [line.client] : [])), lines: read };
}

/**
 * Makes the row of an environment from a backup.
 * @param copy whether it stands beside the one it is from: tokens of that one do not open it
 */
export const environmentRow = (
  { secretKey, random }: Ground,
  { app, name, id, createdAt }: { app: string; name: string; id: string; createdAt: Date },
  kept: KeptEnvironment,
  copy: boolean,
): typeof environments.$inferInsert => ({
  id,
  app,
  name,
  mode: kept.mode,
  triggers: 0,
  server: null,
  widening: kept.widening,
  sealedKeys: sealEnvironmentKeys(secretKey, id, {
    data: Buffer.from(kept.keys.data, 'hex'),
    tokens: copy ? random(32) : Buffer.from(kept.keys.tokens, 'hex'),
  }),
  sealedFor: kept.sealedFor,
  createdAt,
});

const date = <T extends string | Date | null>(value: T) => (value === null ? null : new Date(value)) as T extends null ? null : Date;

/** Makes the app that an environment belongs to, where it is gone too. */
export async function giveApp({ database: { orm } }: Ground, name: string, { lines }: Kept, createdAt: Date): Promise<void> {
  const found = lines.find((line) => 'app' in line) as { app: { title: string; secondFactor: boolean } } | undefined;
  await orm
    .insert(apps)
    .ignore()
    .values({ name, title: found?.app.title ?? name, secondFactor: found?.app.secondFactor ?? false, createdAt });
}

/**
 * Gives an environment the clients, keys, roles and hosts of its backup; what another environment has by now stays there.
 * @returns what could not be given, in words
 */
export async function giveKept(
  { database, secretKey }: Ground,
  environmentId: string,
  { lines }: Kept,
  withKeys: boolean,
): Promise<string[]> {
  const { orm } = database;
  const notes: string[] = [];
  for (const line of lines) {
    if ('client' in line)
      await orm
        .insert(clients)
        .ignore()
        .values({ ...line.client, environmentId, createdAt: new Date(line.client.createdAt) });
    else if ('key' in line && withKeys) {
      const { key, ...row } = line.key;
      const sealed = key && seal(secretKey, `key:${row.id}`, key);
      const dates = { createdAt: new Date(row.createdAt), lastUsedAt: date(row.lastUsedAt), revokedAt: date(row.revokedAt) };
      const [made] = await orm
        .insert(keys)
        .ignore()
        .values({ ...row, ...dates, environmentId, sealed });
      if (made.affectedRows === 0) notes.push(`The key …${row.hint} of ${row.client} belongs to another environment, and stays there.`);
    } else if ('role' in line) {
      const [member] = await orm.select().from(members).where(eq(members.email, line.role.email));
      if (member) await orm.insert(memberRoles).ignore().values({ memberId: member.id, environmentId, role: line.role.role });
      else notes.push(`${line.role.email} is no member here; they were ${line.role.role}.`);
    } else if ('host' in line && withKeys) returnHost(database, environmentId, line.host);
  }
  return notes;
}

/** All that names an environment by its id, for the moment when another one takes its place. */
const NAMED_BY: readonly (MySqlTable & { environmentId: typeof keys.environmentId })[] = [
  clients,
  keys,
  memberRoles,
  automationTokenRoles,
] as never;

/** Clients, keys, roles and hosts of one environment become those of another. */
export async function handOver(database: Platform['database'], from: string, to: string): Promise<void> {
  const { orm } = database;
  for (const table of NAMED_BY)
    await orm
      .update(table)
      .set({ environmentId: to } as never)
      .where(eq(table.environmentId, from));
  await moveHosts(database, from, to);
}
