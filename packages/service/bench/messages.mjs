// Notifications to many devices and numbers beside bare loops that do the same without a database.
import { createECDH, randomBytes } from 'node:crypto';
import { connect } from 'node:http2';
import { createConnection } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { createHttpClient, operations } from '@orchard/contract';
import { encryptMessage, generateSigningKey, signingKeyFrom, vapidHeader } from '@orchard/core/push';
import { encodePdu, PduReader, submitFields } from '@orchard/core/smpp';
import { readMapping, SMS_ACCOUNT } from '@orchard/simulators';
import { Agent, request } from 'undici';
import { median, rate } from './measure.mjs';

const PROJECT = 'bench';
const CONNECTIONS = 4;
const WINDOW = 50;
const BINDS = 2;
const TEXT = { title: 'Ridge closed', body: 'Storm from noon.' };

export async function messages(ground) {
  await gateways(ground);
  const rounds = Math.min(ground.rounds, 3);
  const { wanted } = ground;
  const results = {};
  if (wanted('messages', 'web-push')) results['web push'] = await webPush({ ...ground, rounds });
  if (wanted('messages', 'token-push')) results['push by token, HTTP/2'] = await tokenPush({ ...ground, rounds });
  if (wanted('messages', 'sms')) Object.assign(results, await sms({ ...ground, rounds }));
  if (wanted('messages', 'audience')) results['audience preview'] = await audience({ ...ground, rounds });
  return results;
}

/** Many phones on a simulated network that nobody looks at. */
const phones = async (simulators, count, query) => (await fetch(`${simulators.address}/desk/phones?count=${count}&${query}`)).json();

async function gateways({ place, simulators }) {
  const { member, params } = place;
  const add = (body) => member.call(operations.gateways.create, { params, body });
  const keyFile = await (await fetch(`${simulators.address}/desk/tarn.json?project=${PROJECT}`)).text();
  const trust = simulators.authority;
  await add({
    kind: 'token',
    name: 'tarn',
    stage: 'live',
    client: 'ios',
    settings: { address: simulators.tarn, trust },
    keyFile,
    mapping: readMapping('tarn'),
  });
  await add({
    kind: 'smpp',
    name: 'heron',
    stage: 'live',
    settings: {
      host: '127.0.0.1',
      port: simulators.smpp,
      systemId: SMS_ACCOUNT.systemId,
      sender: 'Quillfell',
      binds: BINDS,
      window: WINDOW,
    },
    password: SMS_ACCOUNT.password,
  });
}

const COLUMNS =
  'id, client, platform, appVersion, os, locale, timeZone, permission, endpoint, p256dh, auth, token, createdAt, updatedAt, lastSeenAt';
async function fill({ mysql, database }, model, rows) {
  for (let at = 0; at < rows.length; at += 5000) {
    const values = rows
      .slice(at, at + 5000)
      .map(({ endpoint = null, p256dh = null, auth = null, token = null }, i) => [
        `${model}-${String(at + i).padStart(7, '0')}`,
        'ios',
        'ios',
        '1',
        'iOS 19',
        'nb-NO',
        'Europe/Oslo',
        'granted',
        endpoint,
        p256dh,
        auth,
        token,
        new Date(),
        new Date(),
        new Date(),
      ]);
    await mysql.query(`INSERT INTO \`${database}\`._devices (${COLUMNS}) VALUES ?`, [values]);
  }
}

/** Sends a notification and looks now and then until nothing of it is queued. @returns messages a second, until it was done */
async function ours({ service, place, send }, body, expected, state = ['accepted', 'arrived']) {
  const headers = { 'orchard-key': place.serverKey, 'content-type': 'application/json' };
  const started = Date.now();
  const { id } = JSON.parse(
    await send({ url: `${service.address}/app/v1/notifications`, method: 'POST', headers, body: JSON.stringify(body) }, 202),
  );
  for (;;) {
    const sent = JSON.parse(await send({ url: `${service.address}/app/v1/notifications/${id}`, headers }, 200));
    if (sent.state === 'done') {
      const through = state.reduce((sum, name) => sum + sent.deliveries[name], 0);
      if (through !== expected) throw new Error(`Only ${through} of ${expected} went out: ${JSON.stringify(sent.reasons)}`);
      return expected / ((Date.parse(sent.doneAt) - started) / 1000);
    }
    await sleep(1000);
  }
}

async function alternate(rounds, bare, own) {
  const all = [];
  for (let round = 0; round < rounds; round++) {
    const pair = {};
    for (const name of round % 2 ? ['ours', 'bare'] : ['bare', 'ours']) pair[name] = await (name === 'ours' ? own() : bare());
    all.push(pair);
  }
  const ratios = all.map((pair) => pair.ours / pair.bare).sort((a, b) => a - b);
  return { ratio: median(ratios), ours: median(all.map((pair) => pair.ours)), bare: median(all.map((pair) => pair.bare)), spread: ratios };
}

async function webPush(ground) {
  const { service, simulators, place, deviceCount, rounds } = ground;
  const { applicationServerKey } = await createHttpClient({ address: service.address, headers: () => ({ 'orchard-key': place.key }) }).call(
    operations.devices.pushKey,
    {},
  );
  const auth = randomBytes(16);
  const p256dh = createECDH('prime256v1').generateKeys();
  const made = await phones(simulators, deviceCount, `at=web&key=${applicationServerKey}`);
  const keys = { p256dh: p256dh.toString('base64url'), auth: auth.toString('base64url') };
  await fill(
    ground,
    'web',
    made.map((id) => ({ endpoint: `${simulators.address}/push/${id}`, ...keys })),
  );
  const key = signingKeyFrom(generateSigningKey());
  const authorization = vapidHeader(key, { aud: simulators.address, exp: Math.floor(Date.now() / 1000) + 3600 });
  const others = await phones(simulators, deviceCount, `at=web&key=${key.publicKey}`);
  const message = Buffer.from(JSON.stringify({ notification: 'x'.repeat(36), sentAt: new Date().toISOString(), ...TEXT }));
  const agent = new Agent({ connections: 64, pipelining: 1 });
  const post = async (i) => {
    const reply = await request(`${simulators.address}/push/${others[i % others.length]}`, {
      dispatcher: agent,
      method: 'POST',
      headers: { authorization, ttl: '86400', urgency: 'normal', 'content-encoding': 'aes128gcm' },
      body: encryptMessage(message, { p256dh, auth }, { salt: randomBytes(16) }),
    });
    await reply.body.dump();
    if (reply.statusCode !== 201) throw new Error(`The network answered ${reply.statusCode}.`);
  };
  await rate(post, 2000, 64);
  const result = await alternate(
    rounds,
    () => rate(post, deviceCount, 64),
    () => ours(ground, { ...TEXT, audience: { filter: "id LIKE 'web-%'" } }, deviceCount),
  );
  await agent.close();
  return { ...result, note: `${deviceCount} devices, each message encrypted for its device on both sides` };
}

async function tokenPush(ground) {
  const { simulators, deviceCount, rounds } = ground;
  const made = await phones(simulators, deviceCount, `at=tarn&project=${PROJECT}`);
  await fill(
    ground,
    'tarn',
    made.map((token) => ({ token })),
  );
  const keyFile = await (await fetch(`${simulators.address}/desk/tarn.json?project=${PROJECT}`)).json();
  const bearer = await bareToken(keyFile, simulators.authority);
  const others = await phones(simulators, deviceCount, `at=tarn&project=${PROJECT}`);
  const sessions = Array.from({ length: CONNECTIONS }, () => connect(simulators.tarn, { ca: simulators.authority }));
  let turn = 0;
  const post = (i) =>
    new Promise((resolve, reject) => {
      const body = JSON.stringify({
        to: others[i % others.length],
        mark: `${turn}.${i}`,
        letter: { heading: TEXT.title, words: TEXT.body },
      });
      const stream = sessions[i % CONNECTIONS].request({
        ':method': 'POST',
        ':path': '/letters',
        authorization: `Bearer ${bearer}`,
        'content-type': 'application/json',
      });
      stream.on('response', (headers) =>
        headers[':status'] === 200 ? undefined : reject(new Error(`The network answered ${headers[':status']}.`)),
      );
      stream.resume().on('close', resolve).on('error', reject).end(body);
    });
  const bare = () => {
    turn++;
    return rate(post, deviceCount, 256);
  };
  const result = await alternate(rounds, bare, () => ours(ground, { ...TEXT, audience: { filter: "id LIKE 'tarn-%'" } }, deviceCount));
  for (const session of sessions) session.close();
  return { ...result, note: `${deviceCount} devices, ${CONNECTIONS} connections on both sides` };
}

async function bareToken({ account, tokenAddress, privateKey }, ca) {
  const { importPKCS8, SignJWT } = await import('jose');
  const assertion = await new SignJWT({})
    .setProtectedHeader({ alg: 'RS256' })
    .setIssuer(account)
    .setSubject(account)
    .setAudience(tokenAddress)
    .setIssuedAt()
    .setExpirationTime('1h')
    .sign(await importPKCS8(privateKey, 'RS256'));
  const agent = new Agent({ connect: { ca } });
  const reply = await request(tokenAddress, {
    method: 'POST',
    dispatcher: agent,
    body: new URLSearchParams({ grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer', assertion }).toString(),
  });
  const { access_token: token } = await reply.body.json();
  await agent.close();
  return token;
}

async function sms(ground) {
  const { simulators, smsCount, rounds, cpuUs } = ground;
  const numbers = Array.from({ length: smsCount }, (_, i) => `+1202555${String(i % 10_000).padStart(4, '0')}`);
  const unique = numbers.map((_, i) => `+1${201 + Math.floor(i / 10_000)}555${String(i % 10_000).padStart(4, '0')}`);
  // An account of its own, so that each side gets the receipts of its own messages.
  const account = await (await fetch(`${simulators.address}/desk/heron.json?account=bare`)).json();
  const links = await Promise.all(Array.from({ length: BINDS }, () => bareLink(simulators.smpp, account)));
  const submit = (i) => links[i % BINDS]('submit_sm', submitFields({ from: 'Quillfell', to: unique[i], text: TEXT.body, reference: 1 })[0]);
  const lists = [];
  for (let at = 0; at < unique.length; at += 10_000) lists.push(unique.slice(at, at + 10_000));
  const own = async () => {
    const rates = await Promise.all(
      lists.map((phones) => ours(ground, { way: 'sms', body: TEXT.body, audience: { phones } }, phones.length)),
    );
    return Math.min(...rates) * lists.length;
  };
  const bare = () => rate(submit, smsCount, WINDOW * BINDS);
  const contest = async (delayMs) => {
    const fault = delayMs ? { mode: 'slow', delayMs } : { mode: 'none' };
    await fetch(`${simulators.address}/faults/sms`, { method: 'PUT', body: JSON.stringify(fault) });
    // Both sides are warm before it counts.
    await bare();
    await own();
    const spent = { service: 0, MariaDB: 0, simulators: 0 };
    const result = await alternate(rounds, bare, async () => {
      const before = cpuUs();
      const reached = await own();
      const after = cpuUs();
      for (const name of Object.keys(spent)) spent[name] += (after[name] - before[name]) / (rounds * smsCount);
      return reached;
    });
    const cost = Object.entries(spent).map(([name, us]) => `${name} ${us.toFixed(0)}`);
    const centre = delayMs ? `a centre that takes ${delayMs} ms to answer` : 'a centre that answers at once';
    const note = `${smsCount} messages to ${centre}, ${BINDS} binds with a window of ${WINDOW} on both sides; receipts are taken and, with ours, stored`;
    return { ...result, note: `${note}; CPU in µs a message of ours: ${cost.join(', ')}` };
  };
  const results = { 'SMS over SMPP': await contest(0), 'SMS, answers in 20 ms': await contest(20) };
  for (const link of links) link.end();
  return results;
}

/** A connection to the SMS centre that submits and takes receipts, and does nothing else. */
function bareLink(port, { systemId, password }) {
  return new Promise((resolve, reject) => {
    const socket = createConnection(port, '127.0.0.1');
    const waiting = new Map();
    const reader = new PduReader();
    let sequence = 0;
    const ask = (command, fields) =>
      new Promise((done, failed) => {
        waiting.set(++sequence, (pdu) => (pdu.status === 0 ? done(pdu) : failed(new Error(`status ${pdu.status}`))));
        socket.write(encodePdu({ command, response: false, status: 0, sequence, fields }));
      });
    socket.setNoDelay(true);
    socket.on('error', reject);
    socket.on('data', (chunk) => {
      for (const pdu of reader.push(chunk)) {
        if (!pdu.response) socket.write(encodePdu({ ...pdu, response: true, fields: { message_id: '' } }));
        else {
          waiting.get(pdu.sequence)?.(pdu);
          waiting.delete(pdu.sequence);
        }
      }
    });
    ask.end = () => socket.destroy();
    ask('bind_transceiver', { system_id: systemId, password, interface_version: 0x34 }).then(() => resolve(ask), reject);
  });
}

/** A preview by filter beside its own statement, and the memory of the service while it makes and sends a large audience. */
async function audience(ground) {
  const { mysql, database, audienceCount, place, service, residentMb, rounds } = ground;
  await mysql.query(
    `INSERT INTO \`${database}\`._devices (${COLUMNS}) SELECT CONCAT('crowd-', LPAD(seq, 8, '0')), 'ios', ELT(1 + seq % 3, 'ios', 'android', 'web'), CONCAT('2.', seq % 9), CONCAT('OS ', seq % 12), 'nb-NO', 'Europe/Oslo',
       ELT(1 + seq % 5, 'granted', 'granted', 'granted', 'denied', 'unasked'), NULL, NULL, NULL, CONCAT('nowhere-', seq), NOW(3), NOW(3), NOW(3) - INTERVAL seq % 90 DAY FROM seq_1_to_${audienceCount}`,
  );
  await mysql.query(`ANALYZE TABLE \`${database}\`._devices`);
  const filter = "id LIKE 'crowd-%' AND appVersion IN ('2.1', '2.2', '2.3', '2.4') AND platform <> 'web'";
  const body = { ...TEXT, audience: { filter } };
  const member = () => place.member.call(operations.notifications.previewManaged, { params: place.params, body });
  const byHand = () =>
    mysql.query(
      `SELECT platform, CASE WHEN endpoint IS NOT NULL THEN 'web-push' WHEN token IS NULL THEN NULL WHEN client = 'ios' AND COALESCE(tokenStage, 'live') = 'live' THEN 'tarn' END AS gateway,
         CASE WHEN retiredAt IS NOT NULL THEN 'retired' WHEN permission = 'denied' THEN 'denied' WHEN permission = 'unasked' THEN 'unasked' WHEN endpoint IS NULL AND token IS NULL THEN 'no address' END AS why, COUNT(*)
       FROM \`${database}\`._devices WHERE id LIKE 'crowd-%' AND appVersion IN ('2.1', '2.2', '2.3', '2.4') AND platform <> 'web' GROUP BY 1, 2, 3`,
    );
  await member();
  const times = [];
  const timed = (call) => async () => {
    const started = process.hrtime.bigint();
    await call();
    const seconds = Number(process.hrtime.bigint() - started) / 1e9;
    times.push(seconds);
    return 1 / seconds;
  };
  const result = await alternate(rounds, timed(byHand), timed(member));
  const slowest = 1 / result.ours;
  const memory = await memoryWhileSending({ ...ground, place, service, residentMb });
  return {
    ...result,
    note: `${audienceCount} devices: ${slowest.toFixed(2)} s (aim: under 2)${slowest < 2 ? '' : '  missed'}; ${memory}`,
  };
}

/** The most the service takes more than before while it makes deliveries for the crowd and sends them. */
async function memoryWhileSending({ service, place, send, residentMb, mysql, database, audienceCount }) {
  await mysql.query(`UPDATE \`${database}\`._devices SET permission = 'granted' WHERE id LIKE 'crowd-%'`);
  await sleep(3000);
  const before = residentMb(service.pid);
  let most = before;
  const watch = setInterval(() => {
    most = Math.max(most, residentMb(service.pid));
  }, 200);
  const started = Date.now();
  const headers = { 'orchard-key': place.serverKey, 'content-type': 'application/json' };
  const body = JSON.stringify({ ...TEXT, audience: { filter: "id LIKE 'crowd-%'" } });
  const { id } = JSON.parse(await send({ url: `${service.address}/app/v1/notifications`, method: 'POST', headers, body }, 202));
  let sent;
  for (;;) {
    sent = JSON.parse(await send({ url: `${service.address}/app/v1/notifications/${id}`, headers }, 200));
    if (sent.state === 'done') break;
    await sleep(2000);
  }
  clearInterval(watch);
  const more = most - before;
  const minutes = (Date.now() - started) / 60_000;
  const through = sent.deliveries.failed + sent.deliveries.accepted;
  return `sending to ${through} of ${audienceCount} (every address dead, so each is also retired) took ${minutes.toFixed(1)} min and ${more.toFixed(0)} MB more than before (aim: under 150)${more < 150 ? '' : '  missed'}`;
}
