/** What is being composed, and the notification it makes. */
import type { BodyInputOf, operations } from '@orchard/contract';

export type Way = 'push' | 'sms' | 'mail';
export type AudienceKind = 'everyone' | 'topics' | 'filter' | 'user' | 'device' | 'addresses';
export type LocaleVariant = { tag: string; title: string; body: string };
export type Draft = {
  way: Way;
  audience: AudienceKind;
  topics: string[];
  notTopics: string[];
  filter: string;
  user: string;
  device: string;
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
  locales: LocaleVariant[];
  second: { share: number; title: string; body: string } | null;
  when: 'now' | 'at' | 'local';
  at: string;
  perSecond: number | '';
  quiet: boolean;
  quietFrom: string;
  quietTo: string;
  fallBack: '' | 'sms' | 'mail';
  fallBackMin: number;
};
export type Sending = BodyInputOf<typeof operations.notifications.sendManaged>;

export const newDraft = (from: { user: string; device: string; topic: string }): Draft => ({
  way: 'push',
  audience: from.user ? 'user' : from.device ? 'device' : from.topic ? 'topics' : 'everyone',
  topics: from.topic ? [from.topic] : [],
  notTopics: [],
  filter: '',
  user: from.user,
  device: from.device,
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
  second: null,
  when: 'now',
  at: '',
  perSecond: '',
  quiet: false,
  quietFrom: '22:00',
  quietTo: '07:00',
  fallBack: '',
  fallBackMin: 10,
});

const given = <T extends object>(values: T): Partial<T> =>
  Object.fromEntries(
    Object.entries(values).filter(([, value]) => value !== '' && value !== undefined && value !== null && value !== false),
  ) as Partial<T>;

/** The audience, or null while it is not whole. */
export function audienceOf(draft: Draft): Sending['audience'] | null {
  const listed = draft.addresses.split(/[\s,;]+/).filter(Boolean);
  switch (draft.audience) {
    case 'everyone':
      return { everyone: true };
    case 'topics':
      return draft.topics.length || draft.notTopics.length
        ? { topics: { ...(draft.topics.length ? { any: draft.topics } : {}), ...(draft.notTopics.length ? { not: draft.notTopics } : {}) } }
        : null;
    case 'filter':
      return draft.filter.trim() ? { filter: draft.filter.trim() } : null;
    case 'user':
      return draft.user ? { user: draft.user } : null;
    case 'device':
      return draft.device ? { device: draft.device } : null;
    case 'addresses':
      return listed.length === 0 ? null : draft.way === 'sms' ? { phones: listed } : { addresses: listed };
  }
}

/** The content alone; null while its data is not JSON. */
export function contentOf(draft: Draft) {
  try {
    const { title, body, html, sound, picture, link, category, silent } = draft;
    const buttons = draft.buttons
      .split(',')
      .map((label) => label.trim())
      .filter(Boolean)
      .map((label) => ({ id: label.toLowerCase().replace(/[^a-z0-9]+/g, '-'), title: label }));
    const locales = draft.locales.filter(({ tag }) => tag).map(({ tag, ...texts }) => [tag, given(texts)] as const);
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
      ...(locales.length ? { locales: Object.fromEntries(locales) } : {}),
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
  return {
    ...content,
    way: draft.way,
    audience,
    ...(draft.way === 'push' && draft.urgency !== 'normal' ? { urgency: draft.urgency } : {}),
    ...(draft.when === 'at'
      ? { start: { at: new Date(draft.at).toISOString() } }
      : draft.when === 'local'
        ? { start: { local: draft.at.slice(0, 16) } }
        : {}),
    ...(draft.perSecond === '' ? {} : { perSecond: draft.perSecond }),
    ...(draft.quiet ? { quiet: { from: draft.quietFrom, to: draft.quietTo } } : {}),
    ...(draft.way === 'push' && draft.fallBack ? { fallBack: { way: draft.fallBack, afterMin: draft.fallBackMin } } : {}),
  };
}
