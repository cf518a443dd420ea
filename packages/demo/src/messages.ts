/** Gateways to the simulators, topics with followers, and a few messages with different outcomes. */
import { type BodyOf, createHttpClient, type HttpClient, type NewGateway, operations, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { MAIL_ACCOUNT, readMapping, SMS_ACCOUNT } from '@orchard/simulators';
import type { FleetDevice } from './fleet.js';
import type { IdentityAddresses } from './people.js';
import { APP, INVITED, PROJECT, STORE_ID, seededRandom } from './scenario.js';
import type { Seeded } from './seed.js';

export type SimulatorAddresses = {
  address: string;
  cairn: string;
  tarn: string;
  smpp: number;
  smtp: number;
  authority: string;
  /** Where the weather office and the payment office are. */
  offices: string | null;
  identity: IdentityAddresses;
};
const params = { app: APP.name, environment: 'dev' };
const PASSWORD = 'larch-and-lantern';
/** So that members get notices of its expiry. */
const CERTIFICATE_DAYS = 26;

/** Adds a gateway to each simulator and checks it. */
export async function seedGateways(owner: HttpClient, at: SimulatorAddresses): Promise<void> {
  const desk = (path: string) => fetch(`${at.address}/desk/${path}`);
  const file = await desk(`cairn.p12?packageIdentifier=${STORE_ID}&stage=trial&password=${PASSWORD}&days=${CERTIFICATE_DAYS}`);
  const certificate = Buffer.from(await file.arrayBuffer()).toString('base64');
  const keyFile = await (await desk(`tarn.json?project=${PROJECT}`)).text();
  const trust = at.authority;
  const bodies: object[] = [
    {
      kind: 'certificate',
      name: 'cairn',
      client: 'hiker-ios',
      settings: { address: at.cairn, trust },
      certificate,
      password: PASSWORD,
      mapping: readMapping('cairn'),
    },
    { kind: 'token', name: 'tarn', client: 'hiker-android', settings: { address: at.tarn, trust }, keyFile, mapping: readMapping('tarn') },
    {
      kind: 'smpp',
      name: 'heron',
      settings: {
        host: '127.0.0.1',
        port: at.smpp,
        systemId: SMS_ACCOUNT.systemId,
        sender: 'Quillfell',
        senders: { GB: '447700900999' },
        binds: 2,
      },
      password: SMS_ACCOUNT.password,
    },
    {
      kind: 'smtp',
      name: 'post',
      settings: {
        host: 'localhost',
        port: at.smtp,
        trust,
        from: 'Quillfell Huts <huts@quillfell.example>',
        bouncesTo: 'huts@quillfell.example',
        user: MAIL_ACCOUNT.user,
      },
      password: MAIL_ACCOUNT.password,
    },
  ];
  for (const body of bodies) {
    const { name } = await owner.call(operations.gateways.create, { params, body: { stage: 'trial', ...body } as NewGateway });
    await owner.call(operations.gateways.check, { params: { ...params, gateway: name } });
  }
  await owner.call(operations.sms.patchSettings, {
    params,
    body: { prices: { US: 0.0085, GB: 0.042, NO: 0.061, DE: 0.078 }, currency: 'EUR' },
  });
}

/** What reaches the team: gateways of the installation, somebody who is invited by mail, and a token for a script. */
export async function seedTeam(owner: HttpClient, at: SimulatorAddresses): Promise<void> {
  const { addGateway, checkGateway } = operations.memberWays;
  const bodies: BodyOf<typeof addGateway>[] = [
    {
      kind: 'smpp',
      name: 'heron',
      stage: 'live',
      settings: { host: 'localhost', port: at.smpp, systemId: SMS_ACCOUNT.systemId, sender: 'Orchard' },
      password: SMS_ACCOUNT.password,
    } as never,
    {
      kind: 'smtp',
      name: 'post',
      stage: 'live',
      settings: {
        host: 'localhost',
        port: at.smtp,
        trust: at.authority,
        from: 'Quillfell Orchard <orchard@quillfell.example>',
        user: MAIL_ACCOUNT.user,
      },
      password: MAIL_ACCOUNT.password,
    } as never,
  ];
  for (const body of bodies) {
    await owner.call(addGateway, { body }).catch(unlessThere);
    await owner.call(checkGateway, { params: { gateway: body.name } });
  }
  await owner
    .call(operations.members.add, {
      body: { email: INVITED.email, name: INVITED.name, roles: [{ app: params.app, environment: 'dev', role: 'developer' }] },
    })
    .catch(unlessThere);
  await owner.call(operations.tokens.create, {
    body: { name: 'nightly export', roles: [{ app: params.app, role: 'viewer' }], days: 90 },
  });
}

const unlessThere = (error: unknown) => {
  if (!(error instanceof Problem) || error.problem !== 'already-exists') throw error;
};

export async function seedTopics(owner: HttpClient, people: Seeded['people'], devices: readonly FleetDevice[]): Promise<void> {
  const random = seededRandom(31);
  const topics: [name: string, title: string, share: number, role?: string][] = [
    ['ridge-weather', 'Ridge weather', 0.7],
    ['huts/fellgate', 'Fellgate', 0.25],
    ['huts/hollow-col', 'Hollow Col', 0.2],
    ['rescue', 'Rescue calls', 0, 'rescuer'],
  ];
  for (const [topic, title, share, role] of topics) {
    await owner.call(operations.topics.put, { params: { ...params, topic }, body: { title, ...(role ? { role } : {}) } });
    const users = role ? people.filter(({ roles }) => roles.includes(role)) : people.filter(() => random() < share);
    const body = {
      users: users.map(({ id }) => id),
      ...(topic === 'huts/fellgate' ? { devices: devices.slice(0, 6).map(({ deviceId }) => deviceId) } : {}),
    };
    await owner.call(operations.topics.addFollowers, { params: { ...params, topic }, body });
  }
}

/** Channel messages of huts and hikers. */
export async function seedChannels(owner: HttpClient): Promise<void> {
  const said: [channel: string, data: JsonObject[]][] = [
    ['huts/fellgate', [{ fire: 'lit', free: 6 }, { free: 4 }, { note: 'Soup at six.' }]],
    [
      'ridge-status',
      [
        { windMs: 18, open: true },
        { windMs: 24, open: false },
      ],
    ],
  ];
  for (const [channel, messages] of said) {
    const publish = channel === 'ridge-status' ? "A_CONTAINS(me('roles'), ('warden'))" : "me('id') IS NOT NULL";
    await owner.call(operations.channels.put, { params: { ...params, channel }, body: { rules: { publish }, keep: 50 } });
    for (const data of messages) await owner.call(operations.channels.publishManaged, { params: { ...params, channel }, body: { data } });
  }
}

/** Sends the association's messages; some phones then report them as received and opened. */
export async function seedMessages(
  owner: HttpClient,
  address: string,
  at: SimulatorAddresses,
  seeded: Seeded,
  devices: readonly FleetDevice[],
  now: number,
): Promise<void> {
  const send = (body: object) => owner.call(operations.notifications.sendManaged, { params, body: body as never });
  const ridge = { topics: { any: ['ridge-weather'] } };
  const first = await send({
    title: 'Ridge closed between Fellgate and Hollow Col',
    body: 'Wind 24 m/s from noon. Stay at {data.hut}, {user.name|hiker}.',
    data: { hut: 'Fellgate' },
    badge: '+1',
    link: '/trails/fellgate-greyback',
    category: 'ridge-warning',
    buttons: [
      { id: 'huts', title: 'Show huts' },
      { id: 'later', title: 'Later' },
    ],
    urgency: 'high',
    locales: {
      nb: { title: 'Ryggen er stengt mellom Fellgate og Hollow Col' },
      de: { title: 'Grat zwischen Fellgate und Hollow Col gesperrt' },
    },
    fallBack: { afterMin: 10, way: 'sms', body: 'Quillfell: ridge closed, wind 24 m/s from noon. Stay at Fellgate.' },
    audience: ridge,
  });
  const second = await send({
    title: 'How was your night?',
    body: 'Tell us in a minute.',
    second: { share: 0.5, content: { title: 'One minute for the huts?', body: 'Your word makes the next night better.' } },
    audience: { filter: "lastSeenAt > TIMESTAMP('2026-01-01T00:00:00Z')" },
  });
  await send({ way: 'sms', body: 'Quillfell: the ridge is open again. Reply STOP for no more messages.', audience: ridge });
  await send({
    way: 'mail',
    title: 'Your summer with Quillfell',
    body: 'Hello {user.name|hiker},\n\nthe huts open on the first of June.',
    html: '<p>Hello {user.name|hiker},</p><p>the huts open on <b>the first of June</b>.</p>',
    audience: { topics: { any: ['huts/fellgate'] } },
  });
  // One mailbox does not exist, and one bounces after its mail was accepted.
  await send({
    way: 'mail',
    title: 'Your invoice for three nights',
    body: 'Fellgate, three nights: 126 EUR.',
    audience: { addresses: ['aino@hikers.example', 'nobody@hikers.example', 'moved@hikers.example'] },
  });
  await send({
    title: 'You arrive tomorrow',
    body: 'The stove is warm from four.',
    start: { local: `${new Date(now + 2 * 86_400_000).toISOString().slice(0, 10)}T18:00` },
    quiet: { from: '22:00', to: '07:00' },
    audience: { topics: { any: ['huts/hollow-col'] } },
  });
  await send({ title: 'Bunks free at Kestrel Rock', draft: true, audience: { everyone: true } });
  await tellOf(address, seeded, devices, [
    { id: first.id, received: 0.8, opened: 0.45 },
    { id: second.id, received: 0.7, opened: 0.3 },
  ]);
  const stopper = seeded.people.filter(({ phone }) => phone).at(-1)?.phone ?? '';
  for (const [from, text] of [
    [stopper, 'Stop'],
    ['+12025550142', 'Thank you. We are at Fellgate, all well.'],
  ])
    await fetch(`${at.address}/desk/text?${new URLSearchParams({ from: String(from), to: 'Quillfell', text: String(text) })}`);
}

/** A share of the phones reports what was received and opened. */
async function tellOf(
  address: string,
  seeded: Seeded,
  devices: readonly FleetDevice[],
  sent: { id: string; received: number; opened: number }[],
): Promise<void> {
  const random = seededRandom(37);
  const keys = { ios: seeded.clientKey, android: seeded.androidKey };
  await new Promise((resolve) => setTimeout(resolve, 1500));
  for (const { deviceId, secret, token, platform } of devices) {
    const items = sent.flatMap(({ id, received, opened }) => {
      const chance = random();
      return chance < received ? [{ notification: id, event: chance < opened ? ('opened' as const) : ('received' as const) }] : [];
    });
    if (items.length === 0 || deviceId.endsWith('0')) continue;
    const app = createHttpClient({ address, headers: () => ({ 'orchard-key': keys[platform], authorization: `Bearer ${token}` }) });
    await app.call(operations.devices.report, {
      params: { id: deviceId },
      body: { items },
      headers: { 'orchard-device-secret': secret },
    });
  }
}

/** What guests get without anybody sending it. */
export async function seedStanding(owner: HttpClient): Promise<void> {
  await owner.call(operations.standing.add, {
    params,
    body: {
      name: 'The evening before arrival',
      collection: 'bookings',
      field: 'arrives',
      filter: "state <> 'cancelled'",
      to: 'guest',
      daysBefore: 1,
      at: '18:00',
      title: 'Tomorrow at {record.hut.name}',
      body: 'Hello {user.name|hiker}, the room for your party of {record.party} is ready from three in the afternoon.',
      link: '/bookings/{record.id}',
      locales: {
        nb: { title: 'I morgen på {record.hut.name}', body: 'Hei {user.name|der}, {record.party} senger er klare fra klokken tre.' },
      },
    },
  });
}
