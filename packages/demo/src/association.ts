/** The association's members, who stand in a PostgreSQL table of their own and are shown as a collection. */
import { type HttpClient, operations } from '@orchard/contract';
import type { PostgresqlServer } from '@orchard/simulators';
import pg from 'pg';
import { APP, hikers, seededRandom } from './scenario.js';

const MEMBERS = 240;
const params = { app: APP.name, environment: 'dev' };

/** Fills the table, and shows it. */
export async function seedAssociation(owner: HttpClient, { port, user, password }: PostgresqlServer, now: number): Promise<void> {
  const client = new pg.Client({ host: '127.0.0.1', port, user, password, database: 'postgres' });
  await client.connect();
  await client.query(`DROP TABLE IF EXISTS members`);
  await client.query(
    `CREATE TABLE members (member_no SERIAL PRIMARY KEY, name TEXT NOT NULL, mail TEXT, region TEXT, joined DATE, fee_paid BOOLEAN NOT NULL DEFAULT false,
       nights INT NOT NULL DEFAULT 0, changed TIMESTAMPTZ NOT NULL DEFAULT now())`,
  );
  await client.query('CREATE INDEX ON members (region); CREATE INDEX ON members (changed)');
  const random = seededRandom(41);
  const people = hikers(48);
  for (let i = 0; i < MEMBERS; i++) {
    const person = people[i % people.length] as (typeof people)[number];
    const suffix = i < people.length ? '' : ` ${'IVX'[Math.floor(i / people.length) % 3]}`;
    await client.query('INSERT INTO members (name, mail, region, joined, fee_paid, nights, changed) VALUES ($1, $2, $3, $4, $5, $6, $7)', [
      `${person.name}${suffix}`,
      suffix ? null : person.email,
      ['south', 'middle', 'north'][Math.floor(random() * 3)],
      new Date(now - random() * 20 * 365 * 86_400_000),
      random() < 0.8,
      Math.floor(random() * 30),
      new Date(now - random() * 60 * 86_400_000),
    ]);
  }
  await client.query('ANALYZE members');
  await client.end();
  const body = {
    name: 'association',
    kind: 'postgresql' as const,
    host: '127.0.0.1',
    port,
    database: 'postgres',
    user,
    password,
    tls: false,
  };
  await owner.call(operations.outside.addServer, { params, body });
  await owner.call(operations.outside.checkServer, { params: { ...params, server: 'association' } });
  await owner.call(operations.outside.addTable, {
    params: { ...params, collection: 'members' },
    body: {
      server: 'association',
      table: 'public.members',
      key: 'member_no',
      changes: 'changed',
      writable: true,
      rules: { read: "A_CONTAINS(me('roles'), ('warden'))" as never },
    },
  });
}
