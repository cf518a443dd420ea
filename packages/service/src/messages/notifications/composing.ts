/** The content each device gets, and how large messages become. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import {
  type ContentSet,
  contentFor,
  contentProblems,
  fillContent,
  type NotificationContent,
  personalOf,
  type Variant,
} from '@orchard/core/messages';
import type { OutgoingMessage, Sender, Target } from '../gateways/sender.js';
import type { DueDelivery } from './deliveryStore.js';

/** Chooses and fills contents; returns the same object for every device if nothing differs. */
export class Composer {
  readonly personal: { personal: boolean; user: boolean };
  readonly #chosen = new Map<string, NotificationContent>();

  constructor(private readonly set: ContentSet) {
    this.personal = personalOf(set);
  }

  /** @param values asked for only when some text differs from device to device @throws {MissingValue} */
  contentOf(
    { platform, locale, variant }: Pick<DueDelivery, 'platform' | 'locale' | 'variant'>,
    values: () => JsonObject,
  ): NotificationContent {
    const name = `${platform} ${locale} ${variant}`;
    let content = this.#chosen.get(name);
    if (!content) {
      content = contentFor(this.set, platform, locale, variant);
      if (!this.personal.personal) content = fillContent(content, {});
      this.#chosen.set(name, content);
    }
    return this.personal.personal ? fillContent(content, values()) : content;
  }
}

/**
 * Refuses contents with invalid templates, and empty ones.
 * @throws {Problem} invalid-input
 */
export function demandContent(set: ContentSet, way: string): void {
  const problems = contentProblems(set);
  if (problems.length)
    throw new Problem('invalid-input', problems.map(({ at, problem }) => `\`${at}\`: ${problem}`).join(' '), {
      fields: problems.map(({ at, problem }) => ({
        path: `body.${at}`,
        problem,
        expected: 'variables of user, device and data, such as {user.name}',
      })),
    });
  const refuse = (path: string, problem: string, expected: string) => {
    throw new Problem('invalid-input', problem, { fields: [{ path: `body.${path}`, problem, expected }] });
  };
  if (way === 'push' && !set.silent && !set.title)
    refuse('title', 'A notification that is shown needs a title.', 'a title, or "silent": true');
  if (way === 'mail' && !set.title) refuse('title', 'A mail needs a subject.', 'a title');
  if (way === 'sms' && !set.body) refuse('body', 'A short message needs a body.', 'a body');
}

const SAMPLE: Target = {
  target: '00000000-0000-7000-8000-000000000000',
  endpoint: 'https://push.example/x',
  p256dh: null,
  auth: null,
  pushKey: null,
  token: 'x'.repeat(160),
  platform: 'ios',
  locale: 'en',
  timeZone: 'Europe/London',
  badge: 0,
};

/** Bytes of the largest form of a notification, at one gateway; templates count as they are written. */
export function largestAt(
  sender: Sender,
  set: ContentSet,
  notification: OutgoingMessage['notification'],
  overlay: JsonObject | undefined,
): { bytes: number; mostBytes: number } | null {
  let largest: { bytes: number; mostBytes: number } | null = null;
  const variants: Variant[] = set.second ? ['a', 'b'] : ['a'];
  for (const platform of ['', ...Object.keys(set.platforms ?? {})])
    for (const locale of ['', ...Object.keys(set.locales ?? {})])
      for (const variant of variants) {
        const content = contentFor(set, platform, locale, variant);
        const size = sender.sizeOf({ notification, content, overlay, target: SAMPLE, ttlS: 86_400, attempt: 1 });
        if (size && size.bytes > (largest?.bytes ?? -1)) largest = size;
      }
  return largest;
}
