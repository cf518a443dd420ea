import type { Notification } from '@orchard/contract';
import { describe, expect, it } from 'vitest';
import { draftOf, lostParts, newDraft, sendingOf } from '../src/compose/draft.js';

const kept = (changes: Partial<Notification>): Notification =>
  ({
    id: '01a20000-0000-7000-8000-000000000000',
    way: 'push',
    state: 'draft',
    title: 'Ridge closed',
    audience: { everyone: true },
    urgency: 'normal',
    ttlS: 86_400,
    replaces: null,
    ...changes,
  }) as Notification;

describe('a kept notification that is written on', () => {
  it.each<[string, Partial<Notification>]>([
    ['texts', { body: 'Stay.', link: '/huts', picture: 'https://huts.example/a.png', sound: 'storm', category: 'ridge' }],
    ['a badge of 0', { badge: 0 }],
    ['a badge of +1', { badge: '+1' }],
    ['data', { data: { hut: 'fellgate', beds: [1, 2] } }],
    ['buttons', { buttons: [{ id: 'show-huts', title: 'Show huts' }] }],
    ['languages', { locales: { nb: { title: 'Stengt' }, de: { title: 'Gesperrt', body: 'Bleib.' } } }],
    ['platforms', { platforms: { ios: { body: 'Swipe.' } } }],
    ['overlays', { overlays: { tarn: { tone: 'storm' } } }],
    ['a comparison', { second: { share: 0.3, content: { title: 'Other' } } }],
    ['quiet hours', { quiet: { from: '21:00', to: '06:30' } }],
    ['a fall-back', { fallBack: { way: 'sms', afterMin: 15, body: 'STORM' } }],
    ['a pace, an expiry and a name', { perSecond: 50, ttlS: 5400, replaces: 'ridge' }],
    ['silence', { title: null, silent: true, data: { refresh: 'huts' } } as Partial<Notification>],
    ['topics and a time', { audience: { topics: { any: ['ridge'], not: ['rescue'] } }, start: { local: '2026-12-24T18:00' } }],
    ['topics all of which are followed, and a filter', { audience: { topics: { all: ['ridge', 'huts'] }, filter: "platform = 'ios'" } }],
    ['several users', { audience: { users: ['01a20000-0000-7000-8000-000000000001', '01a20000-0000-7000-8000-000000000002'] } }],
    ['one user', { audience: { user: '01a20000-0000-7000-8000-000000000001' } }],
    ['several devices', { audience: { devices: ['oak', 'ash'] } }],
    ['one device', { audience: { device: 'oak' } }],
    ['numbers', { way: 'sms', title: null, body: 'Stay.', audience: { phones: ['+12025550142', '+12025550143'] } }],
    ['a mail', { way: 'mail', body: 'Stay.', html: '<p>Stay.</p>', audience: { addresses: ['aino@hikers.example'] } }],
  ])('keeps %s', (_what, changes) => {
    const whole = kept(changes);
    expect(lostParts(whole)).toEqual([]);
    const { state: _state, id: _id, urgency: _urgency, ttlS, title, replaces, ...rest } = whole;
    expect(sendingOf(draftOf(whole))).toEqual({
      ...rest,
      ...(title ? { title } : {}),
      ...(replaces ? { replaces } : {}),
      ...(ttlS === 86_400 ? {} : { ttlS }),
    });
  });

  it.each<[string[], Partial<Notification>]>([
    [['audience'], { audience: { users: Array.from({ length: 201 }, (_, i) => `u${i}`) } }],
    [[], { audience: { users: ['u1'] } }],
    [['buttons'], { buttons: [{ id: 'b1', title: 'Show huts' }] }],
    [['locales'], { locales: { nb: { title: 'Stengt', sound: 'storm' } } }],
  ])('tells that %j would be lost', (lost, changes) => {
    expect(lostParts(kept(changes))).toEqual(lost);
  });
});

it('is not sent before it has words, an audience, a time, and data that is JSON', () => {
  const draft = { ...newDraft({ user: '', device: '', topic: '' }), title: 'Ridge closed' };
  expect(sendingOf(draft)).toMatchObject({ title: 'Ridge closed', audience: { everyone: true } });
  for (const lacking of [
    { title: ' ' },
    { audience: 'users' },
    { audience: 'devices', devices: ' \n' },
    { audience: 'topics', filter: "platform = 'ios'" },
    { when: 'at' },
    { data: '{' },
    { overlays: [{ gateway: 'tarn', json: '{' }] },
  ])
    expect(sendingOf({ ...draft, ...lacking } as typeof draft)).toBeNull();
});
