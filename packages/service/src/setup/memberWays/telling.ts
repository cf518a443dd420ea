/** Messages to members: kept until they are out, delayed by quiet hours, retried when a gateway is down. */
import type { MemberMessage, MemberWayKind } from '@orchard/contract';
import { afterQuiet } from '@orchard/core/messages';
import { INSTALLATION } from '../../platform/database/servers.js';
import { type Job, MOST_ATTEMPTS } from '../../platform/jobs/queue.js';
import type { Parts } from './parts.js';
import { sendTo } from './sending.js';
import { type MessageRow, type WayRow, WayStore } from './store.js';

export const TELL_JOB = 'tell-member';
const MOST_WORDS = 500;

export type Message = { title: string; body: string; link?: string | null; urgent?: boolean };

export class MemberMessages {
  readonly #store: WayStore;

  constructor(private readonly parts: Parts) {
    this.#store = new WayStore(parts.database);
  }

  /** Tells a member on every verified way. @returns how many messages are on their way */
  async tell(memberId: string, message: Message): Promise<number> {
    const ways = (await this.#store.ofMember(memberId)).filter(({ verifiedAt }) => verifiedAt !== null);
    for (const way of ways) await this.queue(way, message, this.#dueAt(way, message.urgent ?? false));
    return ways.length;
  }

  /** The member whose verified phone number this is; null for none. */
  memberAt(number: string): Promise<string | null> {
    return this.#store.memberAt(number);
  }

  /** Adds a message and its job in one transaction. */
  async queue(way: WayRow, { title, body, link = null, urgent = false }: Message, at: Date): Promise<string> {
    const { parts } = this;
    const ground = { id: INSTALLATION, db: parts.servers.installation };
    const now = new Date(parts.now());
    const isLater = at > now;
    const row: MessageRow = {
      id: parts.newId(),
      wayId: way.id,
      title: title.slice(0, 200),
      body: body.slice(0, 1000),
      link,
      urgent,
      state: 'waiting',
      reason: isLater ? `Quiet hours until ${at.toISOString()}.` : null,
      createdAt: now,
      sentAt: null,
    };
    await parts.database.unit(async () => {
      await this.#store.addMessage(row);
      await parts.jobs.add(parts.database, ground, TELL_JOB, row.id, at);
    });
    await parts.jobs.wake(ground, at);
    return row.id;
  }

  #dueAt({ quietFrom, quietUntil, timeZone, urgentAnyway }: WayRow, urgent: boolean): Date {
    const now = this.parts.now();
    if (!quietFrom || !quietUntil || (urgent && urgentAnyway)) return new Date(now);
    return new Date(afterQuiet(now, { from: quietFrom, to: quietUntil }, timeZone));
  }

  /** The work of a job. @throws Error for another attempt later */
  work = async ({ subject, attempts }: Pick<Job, 'subject' | 'attempts'>): Promise<null> => {
    const found = await this.#store.message(subject);
    if (found?.message.state !== 'waiting') return null;
    await this.#attempt(found.message, found.way, attempts + 1 >= MOST_ATTEMPTS);
    return null;
  };

  /** Sends at once, for a test. */
  async sendNow(way: WayRow, message: Message): Promise<MemberMessage> {
    const id = await this.#keep(way, message);
    const found = (await this.#store.message(id)) as { message: MessageRow; way: WayRow };
    await this.#attempt(found.message, found.way, true);
    const after = await this.#store.message(id);
    return presentMessage(after?.message ?? { ...found.message, state: 'failed', reason: 'The subscription has ended.' }, way.kind);
  }

  async #keep(way: WayRow, { title, body, link = null, urgent = false }: Message): Promise<string> {
    const id = this.parts.newId();
    const createdAt = new Date(this.parts.now());
    await this.#store.addMessage({ id, wayId: way.id, title, body, link, urgent, state: 'waiting', reason: null, createdAt, sentAt: null });
    return id;
  }

  /** @throws Error when it should be tried again, unless this is the last attempt */
  async #attempt(message: MessageRow, way: WayRow, isLast: boolean): Promise<void> {
    const outcome = await sendTo(this.parts, way, message);
    const now = new Date(this.parts.now());
    if (outcome.kind === 'accepted') {
      await this.#store.updateMessage(message.id, { state: 'sent', reason: null, sentAt: now });
      await this.#store.update(way.id, { lastSentAt: now, lastFailure: null });
      return;
    }
    const reason = outcome.reason.slice(0, MOST_WORDS);
    // RFC 8030 section 7.3: the subscription is gone for good; its messages go with it.
    if (outcome.kind === 'gone') return this.#store.remove(way.id);
    await this.#store.update(way.id, { lastFailure: reason });
    const isOver = outcome.kind === 'refused' || isLast;
    await this.#store.updateMessage(message.id, { state: isOver ? 'failed' : 'waiting', reason });
    if (!isOver) throw new Error(reason);
  }
}

export function presentMessage({ wayId: _, createdAt, sentAt, state, ...row }: MessageRow, kind: string): MemberMessage {
  return {
    ...row,
    state: state as MemberMessage['state'],
    way: kind as MemberWayKind,
    createdAt: createdAt.toISOString(),
    sentAt: sentAt?.toISOString() ?? null,
  };
}
