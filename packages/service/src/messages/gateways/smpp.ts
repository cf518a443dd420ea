/** The SMPP 3.4 gateway to an SMS centre: several links, each with its window. */
import { readDelivery, STATUS, statusName, submitFields } from '@orchard/core/smpp';
import type { Fields, IncomingSms, Pdu, Receipt } from '@orchard/core/smpp';
import { SegmentReceipts } from './segmentReceipts.js';
import type { CheckStep, OutgoingMessage, Outcome, Sender } from './sender.js';
import { SmppLink, type SmppSettings } from './smppLink.js';

/** Deliveries from a centre are passed on; each resolves when it is stored. */
export type SmsEvents = { receipt: (receipt: Receipt) => Promise<void>; message: (message: IncomingSms) => Promise<void> };

const PATIENCE_MS = 1000;
/** TS 23.040 section 9.2.3.24.1: incomplete messages are dropped after this time. */
const PARTS_MS = 10 * 60_000;

export class SmppSender implements Sender {
  readonly atOnce: number;
  readonly #links: SmppLink[];
  #reference = 0;
  readonly #segments = new SegmentReceipts();

  constructor(
    settings: SmppSettings,
    password: string,
    private readonly senderFor: (number: string) => string,
    private readonly events: SmsEvents,
    clock: { now: () => number; random: (bytes: number) => Buffer },
  ) {
    this.atOnce = settings.binds * settings.window * 2;
    this.#reference = clock.random(1)[0] as number;
    const join = new PartJoiner(clock.now);
    const onDelivery = async (fields: Parameters<typeof readDelivery>[0]) => {
      const read = readDelivery(fields);
      if ('receipt' in read) {
        const receipt = this.#segments.take(read.receipt);
        return receipt ? events.receipt(receipt) : undefined;
      }
      const whole = join.add(read.message);
      if (whole) await events.message(whole);
    };
    this.#links = Array.from({ length: settings.binds }, () => new SmppLink(settings, password, onDelivery, clock));
    for (const link of this.#links) link.open();
  }

  sizeOf(): null {
    return null;
  }

  /** Submits every segment; the message is accepted when all are. The id of the last one identifies it. */
  async send({ content, target, ttlS }: OutgoingMessage): Promise<Outcome> {
    const text = content.body ?? content.title ?? '';
    const number = target.target;
    this.#reference = (this.#reference + 1) & 0xff;
    const validMin = Math.max(1, Math.ceil(ttlS / 60));
    const parts = submitFields({ from: this.senderFor(number), to: number, text, reference: this.#reference, validMin });
    const link = this.#leastLoaded();
    const [only] = parts;
    try {
      if (parts.length === 1 && only) return this.#outcome(link, [await link.submit(only)]);
      return await this.#submitAll(link, parts);
    } catch (error) {
      const { message } = error as Error;
      const refused = /ESME_RINVPASWD|ESME_RINVSYSID/.test(message) ? { credentials: true as const } : {};
      return { kind: 'later', answer: null, reason: `The SMS centre cannot be used: ${message}.`, afterMs: null, ...refused };
    }
  }

  async #submitAll(link: SmppLink, parts: readonly Fields[]): Promise<Outcome> {
    this.#segments.begin();
    try {
      return this.#outcome(link, await Promise.all(parts.map((fields) => link.submit(fields))));
    } finally {
      this.#segments.end();
    }
  }

  #outcome(link: SmppLink, answers: readonly Pdu[]): Outcome {
    const refused = answers.find(({ status }) => status !== STATUS.ESME_ROK);
    if (refused) return this.#refusal(link, refused.status);
    const ids = answers.map(({ fields }) => String(fields.message_id ?? ''));
    const whole = this.#segments.add(ids);
    // A failure to store it is not a failure to send.
    if (whole) this.events.receipt(whole).catch(() => undefined);
    const messageId = ids.at(-1) ?? '';
    return { kind: 'accepted', answer: 0, messageId, receiptId: messageId, segments: ids.length };
  }

  #leastLoaded(): SmppLink {
    return this.#links.reduce((best, other) => (other.load < best.load ? other : best));
  }

  #refusal(link: SmppLink, status: number): Outcome {
    const said = statusName(status);
    const answer = Math.min(status, 32_767);
    if (status === STATUS.ESME_RTHROTTLED || status === STATUS.ESME_RMSGQFUL) {
      link.pause(PATIENCE_MS);
      return { kind: 'later', answer, said, reason: `The SMS centre throttles (${said}).`, afterMs: PATIENCE_MS };
    }
    if (status === STATUS.ESME_RSYSERR)
      return { kind: 'later', answer, said, reason: `The SMS centre has an internal fault (${said}).`, afterMs: null };
    if (status === STATUS.ESME_RINVDSTADR) return { kind: 'refused', answer, said, reason: `The SMS centre rejects the number (${said}).` };
    if (status === STATUS.ESME_RINVSRCADR) return { kind: 'refused', answer, said, reason: `The SMS centre rejects the sender (${said}).` };
    return { kind: 'refused', answer, said, reason: `The SMS centre rejects the message (${said}).` };
  }

  get bound(): boolean {
    return this.#links.some(({ state }) => state.bound);
  }

  async check(): Promise<CheckStep[]> {
    const states = await Promise.all(this.#links.map((link) => link.settled(5000)));
    return states.map((state, i) => ({ what: this.#links.length > 1 ? `bind ${i + 1}` : 'bind', ok: state.bound, text: state.text }));
  }

  close(): void {
    for (const link of this.#links) link.close();
  }
}

/** Reassembles long messages. */
class PartJoiner {
  readonly #open = new Map<string, { parts: (string | undefined)[]; since: number }>();

  constructor(private readonly now: () => number) {}

  add(message: IncomingSms): IncomingSms | null {
    const { part } = message;
    if (!part) return message;
    for (const [name, { since }] of this.#open) if (since < this.now() - PARTS_MS) this.#open.delete(name);
    const name = `${message.from} ${message.to} ${part.reference} ${part.of}`;
    const open = this.#open.get(name) ?? { parts: Array.from<string | undefined>({ length: part.of }), since: this.now() };
    open.parts[part.number - 1] = message.text;
    this.#open.set(name, open);
    if (open.parts.some((text) => text === undefined)) return null;
    this.#open.delete(name);
    return { ...message, text: open.parts.join(''), part: null };
  }
}
