// People: sign-ins beside the bare hash, other calls while they go on, and lists of users by a field of theirs.
import { generateKeyPairSync, verify as verifySignature } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { Algorithm, hash, verify } from '@node-rs/argon2';
import { operations } from '@orchard/contract';
import { UserTokens } from '../dist/platform/access/userTokens.js';
import { compare, median } from './measure.mjs';

const PASSWORD = 'ridge-and-river';
/** Enough to keep the threads that hash busy on both sides. */
const AT_ONCE = 16;
const ACCOUNTS = 20;
/** As the service hashes: argon2id with 19 MiB, 2 passes, 1 lane. */
const ARGON2ID = { algorithm: Algorithm.Argon2id, memoryCost: 19_456, timeCost: 2, parallelism: 1 };

/** Sign-ins with a password, beside checking the same hash. */
export async function signIns({ send, service, key, rounds }) {
  const url = `${service.address}/app/v1`;
  const headers = { 'orchard-key': key, 'content-type': 'application/json' };
  const account = (i) => `walker${i % ACCOUNTS}@hikers.example`;
  const post = (path, body) => send({ url: `${url}${path}`, method: 'POST', headers, body: JSON.stringify(body) }, 201);
  for (let i = 0; i < ACCOUNTS; i++) await post('/users', { email: account(i), password: PASSWORD });
  const stored = await hash(PASSWORD, ARGON2ID);
  const signIn = (i) => post('/sessions', { email: account(i), password: PASSWORD });
  return { signIn, ...(await compare({ ours: signIn, bare: () => verify(stored, PASSWORD), rounds, count: 200, width: AT_ONCE })) };
}

/** The check of an access token, new and seen before, beside a bare verification (ES256). @returns microseconds, medians of rounds */
export async function tokenCheck({ rounds, count = 2_000 }) {
  const key = { kid: 'bench', ...generateKeyPairSync('ec', { namedCurve: 'P-256' }) };
  const session = { userId: 'u', roles: [], fields: {}, ended: false, disabled: false };
  const keys = { current: async () => key, find: async () => key };
  const tokens = new UserTokens(
    Date.now,
    async () => session,
    keys,
    () => 'http://bench',
    { originOf: () => null },
  );
  const environment = { id: 'e', app: 'hiker', name: 'dev' };
  const each = async (work, all) => {
    const began = performance.now();
    for (const one of all) await work(one);
    return ((performance.now() - began) * 1000) / all.length;
  };
  const [fresh, seen, bare] = [[], [], []];
  for (let round = 0; round < rounds; round++) {
    const made = await Promise.all(
      Array.from({ length: count }, () => tokens.issueAccessToken(environment, { userId: 'u', sessionId: 's', client: 'ios' })),
    );
    const parts = made.map(({ token }) => token.split('.'));
    const verifier = { key: key.publicKey, dsaEncoding: 'ieee-p1363' };
    bare.push(
      await each(
        ([head, body, signature]) => verifySignature('sha256', `${head}.${body}`, verifier, Buffer.from(signature, 'base64url')),
        parts,
      ),
    );
    fresh.push(await each(({ token }) => tokens.userOf(environment, token), made));
    seen.push(await each(({ token }) => tokens.userOf(environment, token), made));
  }
  return { fresh: median(fresh), seen: median(seen), bare: median(bare) };
}

/** The 95th percentile of reads, alone and while so many sign in each second. @returns milliseconds */
export async function readsWhile({ read, signIn, aSecond, seconds, rounds }) {
  const reads = async () => {
    const took = [];
    const until = performance.now() + seconds * 1000;
    while (performance.now() < until) {
      const began = performance.now();
      await read(took.length);
      took.push(performance.now() - began);
      await sleep(5);
    }
    return took.sort((a, b) => a - b)[Math.floor(took.length * 0.95)];
  };
  const pairs = [];
  for (let round = 0; round < rounds; round++) {
    const calm = await reads();
    let i = 0;
    const pending = [];
    const timer = setInterval(() => pending.push(signIn(i++)), 1000 / aSecond);
    const busy = await reads();
    clearInterval(timer);
    await Promise.all(pending);
    pairs.push({ calm, busy });
  }
  return {
    calm: median(pairs.map((p) => p.calm)),
    busy: median(pairs.map((p) => p.busy)),
    ratio: median(pairs.map((p) => p.busy / p.calm)),
  };
}

/** Users, made on the server by doubling; one of ten thousand is of the eastern section. */
export async function fillUsers({ mysql, database, member, params, users }) {
  await member.call(operations.accounts.defineField, {
    params: { ...params, field: 'club' },
    body: { type: 'choice', choices: ['north', 'south', 'east'], changedBy: 'servers' },
  });
  const table = `\`${database}\`.\`_users\``;
  const rows = Array.from({ length: 1_000 }, (_, i) => [`u-${i}`, `many${i}@hikers.example`, `Walker ${i}`, i % 2 ? 'north' : 'south']);
  for (const [id, email, name, club] of rows)
    await mysql.query(
      `INSERT INTO ${table} (id, email, name, roles, data, disabled, createdAt, updatedAt) VALUES (?, ?, ?, '[]', JSON_OBJECT('club', ?), 0, NOW(3), NOW(3))`,
      [id, email, name, club],
    );
  for (let have = 1_000, turn = 0; have < users; have *= 2, turn++)
    await mysql.query(
      `INSERT INTO ${table} (id, email, name, roles, data, disabled, createdAt, updatedAt)
       SELECT MD5(CONCAT(id, '-', ${turn})), CONCAT(MD5(CONCAT(id, '-', ${turn})), '@many.example'), name, roles, data, disabled, createdAt, updatedAt
       FROM ${table} WHERE email LIKE '%many%' LIMIT ${users - have}`,
    );
  await mysql.query(`UPDATE ${table} SET data = JSON_OBJECT('club', 'east') WHERE CRC32(id) % 10000 = 0`);
  await mysql.query(`ANALYZE TABLE ${table}`);
}

/** A page of users by a field, beside the same statement by hand. */
export async function usersByField({ mysql, database, send, service, memberHeaders, params, rounds }) {
  const query = new URLSearchParams({ filter: "club = 'east'", limit: '50' });
  const url = `${service.address}/manage/v1/apps/${params.app}/environments/${params.environment}/users?${query}`;
  const sql = `SELECT * FROM \`${database}\`.\`_users\` WHERE JSON_VALUE(data, '$.club') = 'east' ORDER BY id DESC LIMIT 51`;
  return compare({
    ours: () => send({ url, headers: memberHeaders }, 200),
    bare: () => mysql.query(sql),
    rounds,
    count: 3,
    width: 1,
    warmUp: 1,
  });
}
