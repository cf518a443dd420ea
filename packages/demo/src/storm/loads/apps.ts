/** What apps do besides: uploads, events, functions. */
import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import { ask, patiently, untilAnswered, lanes, type Load, type Place } from './load.js';

/** Files: what was acknowledged is there, byte for byte. */
export function uploads(place: Place, count: number): Load {
  const kept = new Map<string, string>();
  return {
    begin: (until) =>
      lanes(count, async (lane) => {
        for (let i = 0; !until.aborted; i++) {
          const content = randomBytes(50_000 + Math.floor(Math.random() * 200_000));
          const path = `storm/${lane}-${i}.bin`;
          const answer = await ask(place, 'PUT', `/files/${path}`, new Uint8Array(content));
          if (answer && answer.status < 300) kept.set(path, createHash('sha256').update(content).digest('hex'));
        }
      }),
    verify: async () => {
      const wrong: string[] = [];
      for (const [path, digest] of kept) {
        const reply = await fetch(`${place.address}/app/v1/files/${path}`, { headers: { 'orchard-key': place.serverKey } });
        const found = createHash('sha256')
          .update(Buffer.from(await reply.arrayBuffer()))
          .digest('hex');
        if (found !== digest) wrong.push(`${path} is not what was stored (status ${reply.status})`);
      }
      return { load: 'uploads', done: kept.size, unit: 'files', wrong };
    },
  };
}

/** Events of apps, with ids: each is brought until it is taken, and counts once. */
export function intake(place: Place, count: number): Load {
  let taken = 0;
  const name = 'stormed';
  return {
    begin: (until) =>
      lanes(count, async (lane) => {
        const device = `storm-${lane}-${randomUUID().slice(0, 8)}`;
        const registration = {
          platform: 'ios',
          appVersion: '1.0.0',
          os: 'iOS 19',
          locale: 'nb-NO',
          timeZone: 'Europe/Oslo',
          permission: 'granted',
        };
        const key = { 'orchard-key': place.clientKey };
        const { body } = await patiently(place, 'PUT', `/devices/${device}`, registration, key);
        const headers = { ...key, 'orchard-device': device, 'orchard-device-secret': (body as { secret: string }).secret };
        while (!until.aborted) {
          const at = new Date().toISOString();
          const events = Array.from({ length: 20 }, () => ({ id: randomUUID(), name, at }));
          const answer = await patiently(place, 'POST', '/events', { sentAt: at, events }, headers);
          if (answer.status < 300) taken += (answer.body as { taken: number }).taken;
        }
      }),
    verify: async () => {
      const period = { from: new Date(Date.now() - 2 * 86_400_000).toISOString(), until: new Date(Date.now() + 86_400_000).toISOString() };
      const count = async () => {
        const body = { ...period, step: 'day' } as never;
        const { series } = await place.owner.call(operations.insight.events, { params: place.params, body });
        return (series[0] as { total: number } | undefined)?.total ?? 0;
      };
      let found = await count();
      for (let waited = 0; found !== taken && waited < 30_000; waited += 1_000) {
        await sleep(1_000);
        found = await count();
      }
      return {
        load: 'event intake',
        done: taken,
        unit: 'events',
        wrong: found === taken ? [] : [`${found} are counted, ${taken} were taken`],
      };
    },
  };
}

const TALLY = `const handler: Endpoint = async ({ body }, { records }) => {
  await records('runs').create({ id: body.mark, mark: body.mark });
  return { body: { mark: body.mark } };
};
export default handler;
`;

/** A function of the team that stores something: what it answered for is there. */
export function functionCalls(place: Place, count: number): Load {
  const done = new Set<string>();
  const failures = new Map<string, number>();
  return {
    begin: async (until) => {
      await patiently(place, 'PUT', '/data/runs/first', { mark: 'first' });
      // The function writes with the rights of who calls it, and nobody is signed in.
      const params = { ...place.params, collection: 'runs' };
      const rules = { create: 'TRUE', read: 'TRUE' };
      await untilAnswered(() => place.owner.call(operations.collections.patch, { params, body: { rules } }));
      await untilAnswered(() =>
        place.owner.call(operations.functions.put, {
          params: { ...place.params, name: 'tally' },
          body: { kind: 'endpoint', path: 'tally', methods: ['POST'], callers: 'anyone', source: TALLY } as never,
        }),
      );
      await lanes(count, async (lane) => {
        for (let i = 0; !until.aborted; i++) {
          const mark = `${lane}-${i}`;
          const answer = await ask(place, 'POST', '/endpoints/tally', { mark }, { 'orchard-key': place.clientKey });
          if (answer && answer.status < 300) done.add(mark);
          else if (answer) failures.set(String(answer.status), (failures.get(String(answer.status)) ?? 0) + 1);
        }
      });
    },
    verify: async () => {
      const wrong: string[] = [];
      for (const mark of done)
        if ((await patiently(place, 'GET', `/data/runs/${mark}`)).status !== 200)
          wrong.push(`what the function stored for ${mark} is lost`);
      if (done.size === 0) wrong.push(`no call went through: ${JSON.stringify([...failures])}`);
      return { load: 'functions', done: done.size, unit: 'runs', wrong };
    },
  };
}
