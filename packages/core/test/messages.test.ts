import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { JsonObject } from '../src/index.js';
import {
  afterQuiet,
  CompiledMapping,
  contentFor,
  contentProblems,
  decodeSms,
  DEFAULT_OPT_WORDS,
  dueAt,
  encodeSms,
  fillContent,
  compileDocument,
  fillTemplate,
  type GatewayMapping,
  instantOf,
  lookUpLocale,
  mappingProblems,
  parseTemplate,
  planSms,
  readOptWord,
  readPhoneNumber,
  segmentsOf,
  trySample,
  FlightWidth,
} from '../src/messages/index.js';

describe('a template', () => {
  const values = { user: { name: 'Runa' }, data: { hut: 'Fellgate', nights: 2 } };
  it.each([
    ['Hello {user.name}', 'Hello Runa'],
    ['{data.nights} nights at {data.hut}', '2 nights at Fellgate'],
    ['{user.nick|hiker}', 'hiker'],
    ['{{data.hut}}', '{data.hut}'],
  ])('%j becomes %j', (text, filled) => expect(fillTemplate(parseTemplate(text), values)).toBe(filled));

  it.each(['{user.name', 'user.name}', '{user name}', '{}'])('%j is refused with its place', (text) => {
    expect(() => parseTemplate(text)).toThrow(/at character \d+/);
  });

  it('keeps the type of a lone variable in a document, and leaves out what has no value', () => {
    expect(compileDocument({ n: '{data.nights}', gone: '{data.none}', text: 'x{data.nights}', list: ['{data.none}', 1] })(values)).toEqual({
      n: 2,
      text: 'x2',
      list: [1],
    });
  });

  it('gives back any text whose braces are doubled', () => {
    fc.assert(
      fc.property(fc.string(), (text) => {
        expect(fillTemplate(parseTemplate(text.replace(/[{}]/g, '$&$&')), {})).toBe(text);
      }),
    );
  });
});

describe('a content', () => {
  const set = {
    title: 'Ridge closed',
    body: 'Stay at {data.hut}, {user.name|hiker}.',
    data: { hut: 'Fellgate' },
    platforms: { ios: { sound: 'horn' } },
    locales: { nb: { title: 'Ryggen er stengt' }, 'pt-BR': { title: 'Crista fechada' } },
    second: { share: 0.5, content: { title: 'Do not cross the ridge' } },
  };
  it('is chosen by platform, language and group, the language last', () => {
    expect(contentFor(set, 'ios', 'nb-NO', 'b')).toMatchObject({ title: 'Ryggen er stengt', sound: 'horn' });
    expect(contentFor(set, 'web', 'en-GB', 'b')).toMatchObject({ title: 'Do not cross the ridge' });
    expect(contentFor(set, 'web', 'pt-PT', 'a').title).toBe('Ridge closed');
    expect(fillContent(contentFor(set, 'web', 'en', 'a'), { user: {} }).body).toBe('Stay at Fellgate, hiker.');
  });
  it('finds a language by taking parts from its tag (RFC 4647)', () => {
    const choices = { zh: 1, 'zh-Hant': 2, de: 3 };
    expect(['zh-Hant-TW', 'zh-Hans-CN', 'DE-at', 'fr'].map((tag) => lookUpLocale(tag, choices))).toEqual([2, 1, 3, undefined]);
  });
  it.each([
    [{ title: 'Hi {user.nmae}' }, 'title', 'user.name'],
    [{ title: 'Hi', body: '{data.hut}' }, 'body', 'not in `data`'],
    [{ title: 'Hi', locales: { nb: { title: '{oops' } } }, 'locales.nb.title', 'not closed'],
    [{ title: '{user}' }, 'title', 'is a group'],
  ])('like %j is refused where it is wrong', (wrong, at, words) => {
    expect(contentProblems(wrong)).toEqual([{ at, problem: expect.stringContaining(words) }]);
  });
});

const MAPPING: GatewayMapping = {
  mapping: 1,
  title: 'A network',
  for: 'certificate',
  protocol: 'h2',
  maxBytes: 2048,
  request: {
    method: 'POST',
    address: '{gateway.address}/to/{device.token}',
    headers: { 'x-keep-until': '{notification.expiresAtS}', 'x-name': '{notification.collapse}' },
    body: {
      show: { head: '{notification.title}', text: '{notification.body}', count: '{notification.badge}' },
      more: '{notification.data}',
    },
  },
  read: { why: '/error/why', id: 'header:x-id' },
  messageId: 'id',
  said: 'why',
  overlayAt: '/show',
  answers: [
    { if: 'status = 200', is: 'accepted' },
    { if: "status = 400 AND why = 'gone'", is: 'address-dead' },
    { if: 'status = 429', is: 'later' },
  ],
  sample: {
    values: {
      gateway: { address: 'https://push.example' },
      device: { token: 'a/b' },
      notification: { title: 'T', badge: 3, expiresAtS: 9 },
    },
    request: {
      method: 'POST',
      address: 'https://push.example/to/a%2Fb',
      headers: { 'x-keep-until': '9' },
      body: { show: { count: 3, head: 'T' } },
    },
    answers: [
      { status: 200, is: 'accepted' },
      { status: 400, body: { error: { why: 'gone' } }, is: 'address-dead' },
      { status: 400, body: { error: { why: 'other' } }, is: 'refused' },
      { status: 503, is: 'later' },
    ],
  },
};
const changed = (changes: object): GatewayMapping => ({ ...structuredClone(MAPPING), ...changes });

describe('a gateway mapping', () => {
  it('makes the request of its sample, and reads the answers as said', () => expect(trySample(new CompiledMapping(MAPPING))).toEqual([]));

  it('takes an overlay where it says, and tells the network’s id and words', () => {
    const compiled = new CompiledMapping(MAPPING);
    expect(JSON.parse(compiled.render(MAPPING.sample.values, { volume: 1 }).body).show).toEqual({ head: 'T', count: 3, volume: 1 });
    expect(compiled.readAnswer(400, { 'x-id': 'm1' }, '{"error":{"why":"gone"}}')).toEqual({
      is: 'address-dead',
      messageId: 'm1',
      said: 'gone',
    });
    expect(compiled.readAnswer(502, {}, '<html>').is).toBe('later');
  });

  it('lets no value of a device change the address it goes to', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1, unit: 'grapheme-ascii' }), (token) => {
        fc.pre(!/^\.{1,2}$/.test(token));
        const { url } = new CompiledMapping(MAPPING).render({ ...MAPPING.sample.values, device: { token } } as JsonObject);
        expect([url.origin, url.pathname.split('/').length, url.search, url.hash]).toEqual(['https://push.example', 3, '', '']);
      }),
    );
  });

  it.each([
    [{ request: { ...MAPPING.request, address: '{gateway.adress}' } }, '/request/address', 'gateway.address'],
    [{ answers: [{ if: 'status == 200', is: 'accepted' }] }, '/answers/0/if', ''],
    [{ answers: [{ if: "wy = 'x'", is: 'refused' }] }, '/answers/0/if', 'why'],
    [{ read: { why: 'error.why', id: 'header:x' } }, '/read/why', 'JSON Pointer'],
    [{ said: 'word' }, '/said', '`read` has no'],
    [{ for: 'token' }, '/token', 'how the token is obtained'],
  ])('with %j is refused there', (changes, at, words) => {
    expect(mappingProblems(changed(changes))).toContainEqual({ at, problem: expect.stringContaining(words) });
  });

  it.each([
    ['request', { ...MAPPING.sample, request: { ...MAPPING.sample.request, method: 'PUT' } }, '/sample/request/method'],
    ['body', { ...MAPPING.sample, request: { ...MAPPING.sample.request, body: { show: {} } } }, '/sample/request/body'],
    ['answer', { ...MAPPING.sample, answers: [{ status: 429, is: 'accepted' }] }, '/sample/answers/0'],
    ['address', { ...MAPPING.sample, values: { ...MAPPING.sample.values, gateway: { address: 'nowhere' } } }, '/sample/values'],
  ])('whose sample fails by its %s says so', (_what, sample, at) => {
    expect(trySample(new CompiledMapping(changed({ sample }))).map((problem) => problem.at)).toEqual([at]);
  });
});

describe('a short message', () => {
  it.each([
    ['', 'gsm7', 1, 160],
    ['a'.repeat(160), 'gsm7', 1, 0],
    ['a'.repeat(161), 'gsm7', 2, 145],
    ['€'.repeat(80), 'gsm7', 1, 0],
    ['€'.repeat(81), 'gsm7', 2, 143],
    ['あ'.repeat(70), 'ucs2', 1, 0],
    ['あ'.repeat(71), 'ucs2', 2, 63],
  ])('%#: goes in as many segments as TS 23.040 says', (text, encoding, segments, left) => {
    expect(planSms(text)).toMatchObject({ encoding, segments, left });
  });
  it('names the letters that force UCS-2', () => expect(planSms('Ridge closed – stay “in”.').forcing).toEqual(['–', '“', '”']));
  it('comes out as it went in, whatever it says', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string({ unit: 'grapheme' }), fc.string({ unit: fc.constantFrom(...'abc€[]{}^~|\\@£\nÆéΩ') })), (text) => {
        const { encoding, parts } = segmentsOf(text);
        expect(parts.map((part) => decodeSms(encodeSms(part, encoding), encoding)).join('')).toBe(text);
        for (const part of parts)
          expect(encodeSms(part, encoding).length).toBeLessThanOrEqual(parts.length > 1 ? (encoding === 'gsm7' ? 153 : 134) : 160);
      }),
    );
  });
  it.each([
    ['Stopp.', 'out'],
    [' arrêt svp', 'out'],
    ['start', 'in'],
    ['Please stop', null],
    ['', null],
  ])('%j asks for %j', (text, asked) => expect(readOptWord(text, DEFAULT_OPT_WORDS)).toBe(asked));
});

describe('a phone number', () => {
  it.each([
    ['+1 202 555 0142', undefined, '+12025550142', 'US'],
    ['07700 900123', 'GB', '+447700900123', 'GB'],
  ])('%j is read as E.164', (text, country, number, of) => expect(readPhoneNumber(text, country)).toMatchObject({ number, country: of }));
  it.each(['12', '+1 202 555', 'hut phone', '+447700900123456789', '0770 900 123', ''])('%j is none', (text) => {
    expect(() => readPhoneNumber(text)).toThrow(/Write it as \+/);
  });
});

describe('times', () => {
  const wall = (text: string) => Date.parse(`${text}Z`);
  const at = (iso: string) => Date.parse(iso);
  it.each([
    ['2026-07-01T18:00', 'Europe/Oslo', '2026-07-01T16:00:00Z'],
    ['2026-12-01T18:00', 'America/Denver', '2026-12-02T01:00:00Z'],
    ['2026-03-29T02:30', 'Europe/Oslo', '2026-03-29T01:30:00Z'],
    ['2026-10-25T02:30', 'Europe/Oslo', '2026-10-25T00:30:00Z'],
  ])('%s in %s is %s', (local, zone, instant) =>
    expect(new Date(instantOf(wall(local), zone)).toISOString()).toBe(new Date(at(instant)).toISOString()),
  );

  it.each([
    ['2026-07-01T21:30:00Z', '2026-07-02T05:00:00Z'],
    ['2026-07-02T03:00:00Z', '2026-07-02T05:00:00Z'],
    ['2026-07-02T09:00:00Z', '2026-07-02T09:00:00Z'],
  ])('quiet from 22:00 to 07:00 in Oslo moves %s to %s', (from, to) => {
    expect(afterQuiet(at(from), { from: '22:00', to: '07:00' }, 'Europe/Oslo')).toBe(at(to));
  });

  it('never wake anyone in quiet hours, in any zone at any time', () => {
    const clock = fc.tuple(fc.nat(23), fc.nat(59)).map(([h, m]) => `${String(h).padStart(2, '0')}:${String(m).padStart(2, '0')}`);
    fc.assert(
      fc.property(
        fc.integer({ min: at('2026-01-01'), max: at('2027-12-31') }),
        clock,
        clock,
        fc.constantFrom('Europe/Oslo', 'Asia/Kolkata', 'America/Denver', 'Pacific/Chatham'),
        (now, from, to, zone) => {
          fc.pre(from !== to);
          const due = dueAt(now, zone, { quiet: { from, to } });
          const shown = new Intl.DateTimeFormat('en-GB', { timeZone: zone, hour: '2-digit', minute: '2-digit', hourCycle: 'h23' }).format(
            due,
          );
          expect(due).toBeGreaterThanOrEqual(now);
          expect(from < to ? shown >= from && shown < to : shown >= from || shown < to).toBe(false);
          expect(due - now).toBeLessThanOrEqual(25 * 3_600_000);
        },
      ),
    );
  });
});

describe('messages in flight', () => {
  /**
   * A way with a latency, and a rate beyond which messages queue: what width does it come to? A message takes the
   * latency, and waits for those before it.
   */
  function settle(latencyMs: number, perSecond: number, messages = 20_000): { width: number; busy: number } {
    const flight = new FlightWidth(4, 128);
    const ends: number[] = [];
    let [now, free] = [0, 0];
    for (let i = 0; i < messages; i++) {
      while (ends.length >= flight.width) now = Math.max(now, ends.splice(ends.indexOf(Math.min(...ends)), 1)[0] as number);
      free = Math.max(free, now) + 1000 / perSecond;
      const end = free + latencyMs;
      ends.push(end);
      flight.note(end - now);
    }
    return { width: flight.width, busy: messages / (now / 1000) / perSecond };
  }

  it.each([
    ['a quick network that a slow process fills', 0.3, 1_400, 4, 12],
    ['a network that takes 50 ms', 50, 1_400, 60, 128],
    ['one that takes 200 ms and gives 200 a second', 200, 200, 30, 128],
  ])('are as few as keep the way busy: %s', (_what, latency, rate, least, most) => {
    const { width, busy } = settle(latency, rate);
    expect(width).toBeGreaterThanOrEqual(least);
    expect(width).toBeLessThanOrEqual(most);
    expect(busy).toBeGreaterThan(0.85);
  });

  it('never leave their bounds, whatever is measured', () => {
    fc.assert(
      fc.property(fc.array(fc.double({ min: 0, max: 60_000, noNaN: true }), { maxLength: 2_000 }), (times) => {
        const flight = new FlightWidth(4, 128);
        return times.every((ms) => {
          flight.note(ms);
          return flight.width >= 4 && flight.width <= 128;
        });
      }),
    );
  });
});
