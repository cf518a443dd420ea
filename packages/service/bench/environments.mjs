// Many environments on one server: calls to each in turn beside calls to one, and how long a start takes.
import { createHttpClient, operations, SCOPES } from '@orchard/contract';
import { compare } from './measure.mjs';

/** Runs work over items, a few at a time. */
async function inLanes(items, lanes, work) {
  const waiting = [...items];
  const lane = async () => {
    for (let item = waiting.shift(); item !== undefined; item = waiting.shift()) await work(item);
  };
  await Promise.all(Array.from({ length: lanes }, lane));
}

/** Apps with two environments each, a server key and a record in every one. */
async function fillEnvironments({ service, member, count, collections, spread }) {
  const keys = [];
  const apps = Array.from({ length: Math.ceil(count / 2) }, (_, i) => `app-${i}`);
  await inLanes(apps, 4, async (app) => {
    await member.call(operations.apps.create, { body: { name: app } });
    for (const environment of ['dev', 'live']) {
      const params = { app, environment };
      await member.call(operations.clients.create, { params, body: { name: 'office', kind: 'server' } });
      const { key } = await member.call(operations.clients.createKey, {
        params: { ...params, client: 'office' },
        body: { name: 'bench', scopes: [...SCOPES] },
      });
      await member.call(operations.collections.create, { params, body: { name: 'huts', fields: [{ name: 'name', type: 'text' }] } });
      await createHttpClient({ address: service.address, headers: () => ({ 'orchard-key': key }) }).call(operations.records.put, {
        params: { collection: 'huts', id: 'fellgate' },
        body: { name: 'Fellgate' },
      });
      keys.push({ key, params });
    }
  });
  await inLanes(keys.slice(0, spread), 8, async ({ params }) => {
    for (let i = 1; i < collections; i++)
      await member.call(operations.collections.create, {
        params,
        body: {
          name: `c${i}`,
          fields: [
            { name: 'name', type: 'text' },
            { name: 'hut', type: 'reference', to: 'huts' },
          ],
        },
      });
  });
  return keys.map(({ key }) => key);
}

const statements = async (mysql) => Number((await mysql.query("SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'"))[0][0].Value);

export async function environments({ service, member, send, mysql, rounds, count, collections, spread, alone, restart }) {
  const started = Date.now();
  const keys = await fillEnvironments({ service, member, count, collections, spread });
  console.log(
    `${keys.length} environments, ${spread} with ${collections} collections: made in ${((Date.now() - started) / 1000).toFixed(0)} s`,
  );
  const read = (key) => send({ url: `${service.address}/app/v1/data/huts/fellgate`, headers: { 'orchard-key': key } }, 200);
  const result = await compare({
    rounds,
    count: keys.length * 5,
    width: 32,
    ours: (i) => read(keys[i % keys.length]),
    bare: () => read(keys[0]),
  });
  const [[{ most }]] = await mysql.query('SELECT @@GLOBAL.max_prepared_stmt_count AS most');
  const note = `each in turn beside one alone; ${await statements(mysql)} statements prepared of ${most}`;
  const { seconds, mb } = await restart();
  console.log(
    `start with ${keys.length} environments, ${spread * collections} collections: ${seconds.toFixed(1)} s (aim: under 5)${seconds < 5 ? '' : '  missed'}`,
  );
  const more = mb - alone;
  console.log(
    `its memory: ${mb.toFixed(0)} MB, ${more.toFixed(0)} MB more than with one environment (aim: under 150)${more < 150 ? '' : '  missed'}`,
  );
  return { 'environments in turn': { ...result, note } };
}
