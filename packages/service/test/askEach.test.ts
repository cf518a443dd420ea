/** One question to many environments. */
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { askEach } from '../src/platform/database/askEach.js';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { EnvironmentDatabase } from '../src/platform/database/environmentDatabase.js';
import { Leases } from '../src/platform/database/leases.js';

const COUNT = 120;
const nameOf = (i: number) => `ask_each_${i}`;
const bedsOf = (i: number) => i * 2;
let database: Database;
let environments: { i: number; db: EnvironmentDatabase }[];

beforeAll(async () => {
  database = openDatabase(inject('databaseUrl'), { connections: 2 });
  const leases = new Leases(database, 'test');
  environments = Array.from({ length: COUNT }, (_, i) => ({ i, db: new EnvironmentDatabase(database, nameOf(i), leases) }));
  for (const { i } of environments) {
    await database.run(`CREATE OR REPLACE DATABASE ${nameOf(i)}`);
    await database.run(`CREATE TABLE ${nameOf(i)}.huts SELECT ${bedsOf(i)} AS beds`);
  }
});
afterAll(async () => {
  for (let i = 0; i < COUNT; i++) await database.run(`DROP DATABASE IF EXISTS ${nameOf(i)}`);
  await database.close();
});

const ask = () =>
  askEach<number, (typeof environments)[number]>(environments, (db) => `SELECT beds FROM ${db.collection('huts')} WHERE beds >= ?`, [2]);

it('is answered for each, and for one without an answer by nothing', async () => {
  const answers = await ask();
  expect([...answers.keys()].toSorted((a, b) => a.i - b.i)).toEqual(environments);
  for (const [{ i }, beds] of answers) expect(beds).toBe(i === 0 ? null : bedsOf(i));
});

it('leaves out those that cannot be asked, and no others', async () => {
  await database.run(`DROP TABLE ${nameOf(7)}.huts`);
  await database.run(`DROP DATABASE ${nameOf(100)}`);
  const answers = await ask();
  expect(environments.filter((one) => !answers.has(one)).map(({ i }) => i)).toEqual([7, 100]);
});
