// A setup of a hundred collections and fifty functions: applied to an empty environment, and compared with one that has it.
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import { median } from './measure.mjs';

const [COLLECTIONS, FUNCTIONS] = [100, 50];
const own = operations.setups;
const code = (i) => `const handler: Endpoint = async ({ params }, { records }) => {
  const one = await records('things${i}').read(params.id);
  return { body: { name: one.name, next: (one.count ?? 0) + ${i} } };
};
export default handler;
`;
const collection = (i) => ({
  fields: {
    name: { type: 'text', required: true, maxLength: 100 },
    count: { type: 'integer', min: 0 },
    state: { type: 'choice', choices: ['open', 'full', 'closed'] },
    at: { type: 'time' },
    position: { type: 'place' },
    ...(i > 0 ? { other: { type: 'reference', to: `things${i - 1}` } } : {}),
  },
  rules: { read: 'everyone', create: 'signed-in', update: 'owner', delete: 'owner' },
  indexes: [{ fields: ['state', 'at'] }],
});
const numbered = (count, name, part) => Object.fromEntries(Array.from({ length: count }, (_, i) => [`${name}${i}`, part(i)]));
const setup = {
  setup: 1,
  collections: numbered(COLLECTIONS, 'things', collection),
  functions: numbered(FUNCTIONS, 'thing-', (i) => ({
    kind: 'endpoint',
    path: `things/${i}/{id}`,
    callers: 'anyone',
    files: { 'main.ts': code(i) },
  })),
};

/** @param member of the bench */
export async function setupAsFile({ member, params: { app }, rounds }) {
  await member.call(operations.environments.create, { params: { app }, body: { name: 'setup' } });
  const params = { app, environment: 'setup' };
  const began = performance.now();
  const { id } = await member.call(own.apply, { params, body: { setup } });
  let release;
  do {
    await sleep(100);
    release = await member.call(own.release, { params: { ...params, release: id } });
  } while (release.state === 'running');
  if (release.state !== 'done') throw new Error(release.problem);
  const applied = (performance.now() - began) / 1000;
  const compared = [];
  for (let round = 0; round < rounds; round++) {
    const started = performance.now();
    const { changes } = await member.call(own.compare, { params, body: { setup } });
    compared.push((performance.now() - started) / 1000);
    if (changes.length > 0) throw new Error(`${changes.length} parts differ after applying`);
  }
  const told = (name, seconds, aim) =>
    console.log(`${name.padEnd(62)}${seconds.toFixed(2)} s (aim: under ${aim})${seconds < aim ? '' : '  missed'}`);
  told(`${COLLECTIONS} collections and ${FUNCTIONS} functions applied to an empty one`, applied, 20);
  told('the same compared with an environment that has it', median(compared), 2);
}
