/** The content of a notification in its variants, and the content for one device. */
import { type JsonObject, own } from '../json.js';
import {
  fillGroup,
  fillTemplate,
  isPlainText,
  type Known,
  parseTemplate,
  TemplateError,
  type Template,
  sentence,
  unknownVariable,
  valueAt,
} from './template.js';

export type NotificationButton = { id: string; title: string };
/** One content. Title, body, link and picture are templates. */
export type NotificationContent = {
  /** May be left out of a silent notification only. */
  title?: string | undefined;
  body?: string | undefined;
  /** The number on the app's icon: 0 clears it, `+1` adds one to what it was. */
  badge?: number | '+1' | undefined;
  sound?: string | undefined;
  /** An https address. */
  picture?: string | undefined;
  /** Where opening it leads: an absolute URL, or a path inside the app. */
  link?: string | undefined;
  data?: JsonObject | undefined;
  /** Which kind of message it is to the app, such as `ridge-warning`. */
  category?: string | undefined;
  buttons?: NotificationButton[] | undefined;
  /** Wakes the app without showing anything. */
  silent?: boolean | undefined;
  /** For mail: HTML beside the text. */
  html?: string | undefined;
};
/** A content with what differs by platform, by language and by gateway, and for the second group of a comparison. */
export type ContentSet = NotificationContent & {
  platforms?: Record<string, NotificationContent> | undefined;
  /** By language tag, such as `nb` or `pt-BR`. */
  locales?: Record<string, NotificationContent> | undefined;
  /** Merged into what goes to a gateway of this name (RFC 7396). */
  overlays?: Record<string, JsonObject> | undefined;
  /** The other content of a comparison, and the share of devices (0 to 1) that gets it. */
  second?: { share: number; content: NotificationContent } | undefined;
};
export type Variant = 'a' | 'b';

const CONTENT_NAMES = ['title', 'body', 'badge', 'sound', 'picture', 'link', 'data', 'category', 'buttons', 'silent', 'html'] as const;
const TEXT_NAMES = ['title', 'body', 'picture', 'link', 'html'] as const;

/** Variables of templates in a content. `data` is the notification's own, so each name in it is known. */
export const CONTENT_VARIABLES: { [name: string]: Known } = {
  user: { id: true, name: true, email: true, data: 'open' },
  device: { id: true, platform: true, model: true, os: true, appVersion: true, locale: true, timeZone: true, country: true },
  data: 'open',
};

/**
 * The wanted content of a language: RFC 4647 section 3.4 (Lookup), taking parts from the end of the tag until one fits.
 * `nb-NO` finds `nb-NO`, then `nb`.
 */
export function lookUpLocale<T>(locale: string, choices: Record<string, T>): T | undefined {
  const byTag = new Map(Object.entries(choices).map(([tag, value]) => [tag.toLowerCase(), value]));
  for (let tag = locale.toLowerCase(); tag; tag = tag.slice(0, Math.max(0, tag.lastIndexOf('-'))).replace(/-[a-z0-9]$/, '')) {
    const found = byTag.get(tag);
    if (found !== undefined) return found;
  }
  return undefined;
}

/** The content for one platform, language and group: the base, then the group's, the platform's and the language's own. */
export function contentFor(set: ContentSet, platform: string, locale: string, variant: Variant): NotificationContent {
  const layers = [
    set,
    variant === 'b' ? set.second?.content : undefined,
    set.platforms && own(set.platforms, platform),
    set.locales ? lookUpLocale(locale, set.locales) : undefined,
  ];
  const chosen: Record<string, unknown> = {};
  for (const layer of layers) {
    for (const name of CONTENT_NAMES) if (layer?.[name] !== undefined) chosen[name] = layer[name];
  }
  return chosen as NotificationContent;
}

/** Whether some text of a content differs from device to device; and whether it needs the user. */
export function personalOf(set: ContentSet): { personal: boolean; user: boolean } {
  const found = { personal: false, user: false };
  for (const { content } of contentsOf(set)) {
    for (const name of TEXT_NAMES) {
      for (const part of parseTemplate(content[name] ?? '')) {
        if (typeof part === 'string' || part.path[0] === 'data') continue;
        found.personal = true;
        if (part.path[0] === 'user') found.user = true;
      }
    }
  }
  return found;
}

/** Every content in a set, with where it stands. */
export function* contentsOf(set: ContentSet): Generator<{ at: string; content: NotificationContent }> {
  yield { at: '', content: set };
  for (const [name, content] of Object.entries(set.platforms ?? {})) yield { at: `platforms.${name}.`, content };
  for (const [name, content] of Object.entries(set.locales ?? {})) yield { at: `locales.${name}.`, content };
  if (set.second) yield { at: 'second.content.', content: set.second.content };
}

/**
 * A content set with the variables of one group filled, in every text.
 * @throws {MissingValue}
 */
export function fillSet(set: ContentSet, group: string, values: JsonObject): ContentSet {
  const fill = <C extends NotificationContent>(content: C): C => {
    const filled = { ...content };
    for (const name of TEXT_NAMES)
      if (content[name] !== undefined) filled[name] = fillGroup(content[name], group, values) as C[typeof name];
    return filled;
  };
  const each = (contents: Record<string, NotificationContent>) =>
    Object.fromEntries(Object.entries(contents).map(([name, content]) => [name, fill(content)]));
  return {
    ...fill(set),
    ...(set.platforms ? { platforms: each(set.platforms) } : {}),
    ...(set.locales ? { locales: each(set.locales) } : {}),
    ...(set.second ? { second: { ...set.second, content: fill(set.second.content) } } : {}),
  };
}

/**
 * What is wrong with the templates of a content set: unknown variables, braces that do not fit, data that is not there.
 * @param more variables besides those of every content
 */
export function contentProblems(set: ContentSet, more: { [name: string]: Known } = {}): { at: string; problem: string }[] {
  const known = { ...CONTENT_VARIABLES, ...more };
  const found: { at: string; problem: string }[] = [];
  for (const { at, content } of contentsOf(set)) {
    for (const name of TEXT_NAMES) {
      if (content[name] === undefined) continue;
      const problem = templateProblem(content[name], known, content.data ?? set.data ?? {});
      if (problem) found.push({ at: `${at}${name}`, problem });
    }
  }
  return found;
}

/** What is wrong with one template; null when nothing is. */
export function templateProblem(text: string, known: { [name: string]: Known }, data: JsonObject): string | null {
  let template: Template;
  try {
    template = parseTemplate(text);
  } catch (error) {
    if (error instanceof TemplateError) return `${error.message}.`;
    throw error;
  }
  const unknown = unknownVariable(template, known);
  if (unknown) return sentence(unknown);
  for (const part of template) {
    if (typeof part === 'string' || part.path[0] !== 'data' || part.otherwise !== null) continue;
    if (valueAt({ data }, part.path) === undefined) return `\`${part.path.join('.')}\` is not in \`data\`.`;
  }
  return null;
}

/** Fills the templates of a content. @throws {MissingValue} */
export function fillContent(content: NotificationContent, values: JsonObject): NotificationContent {
  const filled = { ...content };
  const all = { ...values, data: content.data ?? {} };
  for (const name of TEXT_NAMES) {
    const text = content[name];
    if (text === undefined) continue;
    const template = parseTemplate(text);
    filled[name] = isPlainText(template) ? (template.join('') as string) : fillTemplate(template, all);
  }
  return filled;
}
