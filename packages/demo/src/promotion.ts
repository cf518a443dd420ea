/** How the setups came to be as they are: what was tried in dev and promoted to live, and what waits there for a second member. */
import { setTimeout as sleep } from 'node:timers/promises';
import { type HttpClient, operations } from '@orchard/contract';
import { APP } from './scenario.js';

const own = operations.setups;
const DEV = { app: APP.name, environment: 'dev' };
const LIVE = { app: APP.name, environment: 'live' };
const LOOK_MS = 200;

async function release(
  owner: HttpClient,
  params: typeof DEV,
  body: Parameters<typeof owner.call<typeof own.apply>>[1]['body'],
): Promise<void> {
  const { id } = await owner.call(own.apply, { params, body });
  for (let state = 'running'; state === 'running'; await sleep(LOOK_MS))
    ({ state } = await owner.call(own.release, { params: { ...params, release: id } }));
}

export async function seedPromotion(owner: HttpClient): Promise<void> {
  const { items } = await owner.call(own.releases, { params: LIVE, query: {} });
  if (items.length > 0) return;
  await tryInDev(owner);
  const topics = ['userFields', 'topics/ridge-weather', 'topics/rescue'];
  await release(owner, LIVE, { from: DEV, only: topics, why: '2.5: storms and rescue calls as topics' });
  await release(owner, LIVE, { from: DEV, only: ['roles', 'mails'], why: '2.6: wardens, and our own words in mails' });
  await owner.call(own.changeSettings, { params: LIVE, body: { approval: true } });
  const only = ['channels/trail-talk', 'collections/trails', 'functions/hut-page'];
  await owner.call(own.apply, {
    params: LIVE,
    body: { from: DEV, only, why: '2.7: trails in winter, and the page of a hut in one call' },
  });
}

/** What is new in dev, from a file. */
async function tryInDev(owner: HttpClient): Promise<void> {
  const { setup } = await owner.call(own.read, { params: DEV });
  const { trails } = setup.collections as unknown as { trails: { fields: object } };
  const fields = { ...trails.fields, openInWinter: { type: 'boolean', default: false } };
  const talk = { rules: { listen: 'TRUE', publish: "me('id') IS NOT NULL" }, keep: 50 };
  await release(owner, DEV, {
    setup: { setup: 1, collections: { trails: { ...trails, fields } }, channels: { 'trail-talk': talk } } as never,
    only: ['collections/trails', 'channels/trail-talk'],
    why: 'Trails that are open in winter, and a channel to talk about them',
  });
}
