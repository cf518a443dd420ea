/** The state of the composer, and the notification made from it. */
import type { BodyInputOf, Notification, operations } from '@orchard/contract';

export type Way = 'push' | 'sms' | 'mail';
export type AudienceKind = 'everyone' | 'topics' | 'filter' | 'users' | 'devices' | 'addresses';
/** What differs for a language or a platform. */
export type Difference = { name: string; title: string; body: string };
export type Overlay = { gateway: string; json: string };
export type Draft = {
  way: Way;
  audience: AudienceKind;
  topics: string[];
  allTopics: string[];
  notTopics: string[];
  /** On devices: alone, or combined with topics. */
  filter: string;
  users: string[];
  /** Ids, one per line. */
  devices: string;
  addresses: string;
  title: string;
  body: string;
  html: string;
  badge: string;
  sound: string;
  picture: string;
  link: string;
  data: string;
  category: string;
  buttons: string;
  silent: boolean;
  urgency: 'very-low' | 'low' | 'normal' | 'high';
  locales: Difference[];
  platforms: Difference[];
  overlays: Overlay[];
  second: { share: number; title: string; body: string } | null;
  when: 'now' | 'at' | 'local';
  at: string;
  /** Hours that it is kept for an unreachable phone. */
  keptH: number | '';
  replaces: string;
  perSecond: number | '';
  quiet: boolean;
  quietFrom: string;
  quietTo: string;
  fallBack: '' | 'sms' | 'mail';
  fallBackMin: number;
  fallBackBody: string;
};
export type Sending = BodyInputOf<typeof operations.notifications.sendManaged>;

export const newDraft = (from: { user: string; device: string; topic: string; filter?: string }): Draft => ({
  way: 'push',
  audience: from.user ? 'users' : from.device ? 'devices' : from.topic ? 'topics' : from.filter ? 'filter' : 'everyone',
  topics: from.topic ? [from.topic] : [],
  allTopics: [],
  notTopics: [],
  filter: from.filter ?? '',
  users: from.user ? [from.user] : [],
  devices: from.device,
  addresses: '',
  title: '',
  body: '',
  html: '',
  badge: '',
  sound: '',
  picture: '',
  link: '',
  data: '',
  category: '',
  buttons: '',
  silent: false,
  urgency: 'normal',
  locales: [],
  platforms: [],
  overlays: [],
  second: null,
  when: 'now',
  at: '',
  keptH: '',
  replaces: '',
  perSecond: '',
  quiet: false,
  quietFrom: '22:00',
  quietTo: '07:00',
  fallBack: '',
  fallBackMin: 10,
  fallBackBody: '',
});

const given = <T extends object>(values: T): Partial<T> =>
  Object.fromEntries(
    Object.entries(values).filter(([, value]) => value !== '' && value !== undefined && value !== null && value !== false),
  ) as Partial<T>;

const wordsIn = (text: string) => text.split(/[\s,;]+/).filter(Boolean);
/** A list, or its only entry, as an audience names it; null for none. */
const named = <One extends string, Many extends string>(one: One, many: Many, list: string[]) =>
  list.length === 0 ? null : ((list.length === 1 ? { [one]: list[0] } : { [many]: list }) as Sending['audience']);

/** The audience, or null while it is incomplete. */
export function audienceOf(draft: Draft): Sending['audience'] | null {
  const listed = wordsIn(draft.addresses);
  const filter = draft.filter.trim();
  switch (draft.audience) {
    case 'everyone':
      return { everyone: true };
    case 'topics': {
      const lists = { any: draft.topics, all: draft.allTopics, not: draft.notTopics };
      const topics = Object.fromEntries(Object.entries(lists).filter(([, names]) => names.length > 0));
      return Object.keys(topics).length > 0 ? { topics, ...(filter ? { filter } : {}) } : null;
    }
    case 'filter':
      return filter ? { filter } : null;
    case 'users':
      return named('user', 'users', draft.users);
    case 'devices':
      return named('device', 'devices', wordsIn(draft.devices));
    case 'addresses':
      return listed.length === 0 ? null : draft.way === 'sms' ? { phones: listed } : { addresses: listed };
  }
}

/** Whether a JSON field is valid or empty. */
export function isJson(text: string): boolean {
  try {
    return text.trim() === '' || JSON.parse(text) !== undefined;
  } catch {
    return false;
  }
}

function differing(name: 'locales' | 'platforms', differences: readonly Difference[]) {
  const named = differences.filter((one) => one.name);
  return named.length ? { [name]: Object.fromEntries(named.map((one) => [one.name, given({ title: one.title, body: one.body })])) } : {};
}

/** The content alone; null while its data, or an overlay, is not JSON. */
export function contentOf(draft: Draft) {
  try {
    const { title, body, html, sound, picture, link, category, silent } = draft;
    const buttons = draft.buttons
      .split(',')
      .map((label) => label.trim())
      .filter(Boolean)
      .map((label) => ({ id: label.toLowerCase().replace(/[^a-z0-9]+/g, '-'), title: label }));
    const overlays = draft.overlays.filter(({ gateway, json }) => gateway && json.trim());
    return {
      ...given(
        draft.way === 'push'
          ? { title, body, sound, picture, link, category, silent }
          : draft.way === 'mail'
            ? { title, body, html }
            : { body },
      ),
      ...(draft.badge ? { badge: draft.badge === '+1' ? ('+1' as const) : Number(draft.badge) } : {}),
      ...(draft.data.trim() ? { data: JSON.parse(draft.data) } : {}),
      ...(buttons.length ? { buttons } : {}),
      ...differing('locales', draft.locales),
      ...(draft.way === 'push' ? differing('platforms', draft.platforms) : {}),
      ...(draft.way === 'push' && overlays.length
        ? { overlays: Object.fromEntries(overlays.map(({ gateway, json }) => [gateway, JSON.parse(json)])) }
        : {}),
      ...(draft.second
        ? { second: { share: draft.second.share / 100, content: given({ title: draft.second.title, body: draft.second.body }) } }
        : {}),
    };
  } catch {
    return null;
  }
}

/** The whole notification; null while something is missing. */
export function sendingOf(draft: Draft): Sending | null {
  const content = contentOf(draft);
  const audience = audienceOf(draft);
  const says = draft.way === 'sms' ? draft.body.trim() : draft.title.trim() || (draft.way === 'push' && draft.silent);
  if (!content || !audience || !says || (draft.when !== 'now' && !draft.at)) return null;
  return { ...content, way: draft.way, audience, ...optionsOf(draft) };
}

/** Sending options. */
function optionsOf(draft: Draft) {
  return {
    ...(draft.way === 'push' && draft.urgency !== 'normal' ? { urgency: draft.urgency } : {}),
    ...(draft.when === 'at'
      ? { start: { at: new Date(draft.at).toISOString() } }
      : draft.when === 'local'
        ? { start: { local: draft.at.slice(0, 16) } }
        : {}),
    ...(draft.keptH === '' ? {} : { ttlS: Math.round(draft.keptH * 3600) }),
    ...(draft.replaces ? { replaces: draft.replaces } : {}),
    ...(draft.perSecond === '' ? {} : { perSecond: draft.perSecond }),
    ...(draft.quiet ? { quiet: { from: draft.quietFrom, to: draft.quietTo } } : {}),
    ...(draft.way === 'push' && draft.fallBack
      ? { fallBack: { way: draft.fallBack, afterMin: draft.fallBackMin, ...given({ body: draft.fallBackBody }) } }
      : {}),
  };
}

const DEFAULT_TTL_S = 86_400;
const differencesOf = (of: Record<string, { title?: string | undefined; body?: string | undefined } | undefined> | undefined) =>
  Object.entries(of ?? {}).map(([name, texts]) => ({ name, title: texts?.title ?? '', body: texts?.body ?? '' }));
/** An instant as an input field shows it, in the browser's time zone. */
const fieldTime = (at: string) => {
  const date = new Date(at);
  return new Date(date.getTime() - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};

/** A stored notification, for further editing. */
export function draftOf(kept: Notification): Draft {
  const { audience, start, quiet, fallBack, second } = kept;
  const users = audience.user ? [audience.user] : (audience.users ?? []);
  const devices = audience.device ? [audience.device] : (audience.devices ?? []);
  const listed = audience.phones ?? audience.addresses;
  return {
    ...newDraft({ user: '', device: '', topic: '' }),
    way: kept.way,
    audience: audience.topics
      ? 'topics'
      : audience.filter
        ? 'filter'
        : listed
          ? 'addresses'
          : users.length > 0
            ? 'users'
            : devices.length > 0
              ? 'devices'
              : 'everyone',
    users,
    devices: devices.join('\n'),
    topics: audience.topics?.any ?? [],
    allTopics: audience.topics?.all ?? [],
    notTopics: audience.topics?.not ?? [],
    filter: audience.filter ?? '',
    addresses: listed?.join('\n') ?? '',
    title: kept.title ?? '',
    body: kept.body ?? '',
    html: kept.html ?? '',
    badge: kept.badge === undefined ? '' : String(kept.badge),
    sound: kept.sound ?? '',
    picture: kept.picture ?? '',
    link: kept.link ?? '',
    data: kept.data ? JSON.stringify(kept.data) : '',
    category: kept.category ?? '',
    buttons: (kept.buttons ?? []).map(({ title }) => title).join(', '),
    silent: kept.silent ?? false,
    urgency: kept.urgency as Draft['urgency'],
    locales: differencesOf(kept.locales),
    platforms: differencesOf(kept.platforms),
    overlays: Object.entries(kept.overlays ?? {}).map(([gateway, overlay]) => ({ gateway, json: JSON.stringify(overlay) })),
    second: second ? { share: Math.round(second.share * 100), title: second.content.title ?? '', body: second.content.body ?? '' } : null,
    when: !start ? 'now' : 'at' in start ? 'at' : 'local',
    at: !start ? '' : 'at' in start ? fieldTime(start.at) : start.local,
    keptH: kept.ttlS === DEFAULT_TTL_S ? '' : kept.ttlS / 3600,
    replaces: kept.replaces ?? '',
    perSecond: kept.perSecond ?? '',
    quiet: quiet !== undefined,
    ...(quiet ? { quietFrom: quiet.from, quietTo: quiet.to } : {}),
    ...(fallBack ? { fallBack: fallBack.way, fallBackMin: fallBack.afterMin, fallBackBody: fallBack.body ?? '' } : {}),
  };
}

/** Users that the field lists by name; a longer list would not be readable. */
const MOST_USERS = 200;
const CARRIED = [
  'audience',
  'title',
  'body',
  'html',
  'badge',
  'sound',
  'picture',
  'link',
  'data',
  'category',
  'buttons',
  'silent',
] as const;
const VARYING = ['locales', 'platforms', 'overlays', 'second', 'quiet', 'fallBack', 'replaces', 'perSecond', 'ttlS'] as const;

/** Parts of a stored notification that the composer has no fields for; saving it there would lose them. */
export function lostParts(kept: Notification): string[] {
  const { users = [] } = kept.audience;
  if (users.length > MOST_USERS) return ['audience'];
  const draft = draftOf(kept);
  const made: Record<string, unknown> = { ttlS: DEFAULT_TTL_S, ...contentOf(draft), ...optionsOf(draft), audience: audienceOf(draft) };
  // A list of one is written as the single value.
  const was = { ...kept, audience: users.length + (kept.audience.devices?.length ?? 0) === 1 ? audienceOf(draft) : kept.audience };
  return [...CARRIED, ...VARYING].filter((name) => ordered(made[name]) !== ordered(was[name]));
}

const ordered = (value: unknown): string =>
  JSON.stringify(value ?? null, (_, member) =>
    member && typeof member === 'object' && !Array.isArray(member)
      ? Object.fromEntries(Object.entries(member).sort(([a], [b]) => (a < b ? -1 : 1)))
      : member,
  );
