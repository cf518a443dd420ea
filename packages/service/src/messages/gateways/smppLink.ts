/** One connection to an SMS centre: bound as transceiver, kept alive, reopened when it ends (SMPP 3.4). */
import { createConnection, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { backOffMs } from '@orchard/core';
import { type Fields, type Pdu, PduReader, STATUS, statusName } from '@orchard/core/smpp';
import { PduWriter } from './pduWriter.js';

export type SmppSettings = {
  host: string;
  port: number;
  tls: boolean;
  trust?: string | undefined;
  systemId: string;
  systemType: string;
  binds: number;
  window: number;
  enquireMs: number;
};
export type LinkState = { bound: boolean; text: string };
/** Handles a PDU from the centre; the response goes out when it is stored. */
export type OnDelivery = (fields: Fields) => Promise<void>;

const ANSWER_WITHIN_MS = 15_000;
/** Section 4.1.1: the version of the interface. */
const VERSION_3_4 = 0x34;
/** Section 4.6.2: the message_id of a deliver_sm_resp is unused. */
const TAKEN: Fields = { message_id: '' };
/** One timer checks all requests for time-outs; a timer for each would cost as much as sending it. */
const LOOK_EVERY_MS = 1_000;
type Request = { command: Pdu['command']; fields: Fields; resolve: (pdu: Pdu) => void; reject: (error: Error) => void };
type Waiting = Request & { until: number };

export class SmppLink {
  #socket: Socket | null = null;
  #bound = false;
  #closed = false;
  #sequence = 0;
  #failures = 0;
  #retry: NodeJS.Timeout | null = null;
  #enquiry: NodeJS.Timeout | null = null;
  #lastHeard = 0;
  #pausedUntil = 0;
  #waking: NodeJS.Timeout | null = null;
  #looking: NodeJS.Timeout | null = null;
  /** Requests without a response yet, the oldest first. */
  readonly #waiting = new Map<number, Waiting>();
  /** Segments waiting for room in the window. */
  readonly #queue: Request[] = [];
  #writer: PduWriter | null = null;
  #underWay = 0;
  state: LinkState = { bound: false, text: 'It has not connected yet.' };

  constructor(
    private readonly settings: SmppSettings,
    private readonly password: string,
    private readonly onDelivery: OnDelivery,
    private readonly clock: { now: () => number; random: (bytes: number) => Buffer },
  ) {}

  get load(): number {
    return this.#bound ? this.#underWay + this.#queue.length : Number.POSITIVE_INFINITY;
  }

  /** Connects and binds; when that fails, or the connection ends, tries again with back-off. */
  open(): void {
    if (this.#closed || this.#socket) return;
    const { host, port, tls, trust } = this.settings;
    const socket = tls ? connectTls({ host, port, servername: host, ...(trust ? { ca: trust } : {}) }) : createConnection({ host, port });
    // One for each connection: a response to a unit of an earlier one must not go out on the next.
    const writer = new PduWriter(socket);
    this.#socket = socket;
    this.#writer = writer;
    this.#looking = setInterval(() => this.#giveUp(), LOOK_EVERY_MS);
    socket.setNoDelay(true);
    const reader = new PduReader();
    const impatient = setTimeout(() => socket.destroy(new Error('the connection timed out')), 10_000);
    socket.once(tls ? 'secureConnect' : 'connect', () => {
      clearTimeout(impatient);
      void this.#bind();
    });
    socket.on('data', (chunk: Buffer) => {
      this.#lastHeard = this.clock.now();
      try {
        for (const pdu of reader.push(chunk)) this.#receive(pdu, writer);
      } catch (error) {
        socket.destroy(error as Error);
      }
    });
    let fault = 'the centre closed the connection';
    socket.on('error', (error: Error & { code?: string }) => {
      fault = error.code ? `${error.message} (${error.code})` : error.message;
    });
    socket.on('close', () => {
      clearTimeout(impatient);
      this.#lost(fault);
    });
  }

  async #bind(): Promise<void> {
    const { systemId, systemType } = this.settings;
    try {
      const fields = { system_id: systemId, password: this.password, system_type: systemType, interface_version: VERSION_3_4 };
      const answer = await this.#request('bind_transceiver', fields);
      if (answer.status !== STATUS.ESME_ROK) throw new Error(bindWords(answer.status, systemId));
      this.#bound = true;
      this.#failures = 0;
      this.state = { bound: true, text: `Bound as ${systemId} to ${answer.fields.system_id || 'the centre'}.` };
      this.#enquiry = setInterval(() => this.#enquire(), this.settings.enquireMs);
      this.#drain();
    } catch (error) {
      this.#socket?.destroy(error as Error);
    }
  }

  #lost(fault: string): void {
    this.#socket = null;
    this.#writer = null;
    this.#bound = false;
    if (this.#enquiry) clearInterval(this.#enquiry);
    if (this.#looking) clearInterval(this.#looking);
    const error = new Error(fault);
    for (const { reject } of this.#waiting.values()) reject(error);
    this.#waiting.clear();
    this.#underWay = 0;
    this.state = { bound: false, text: `Not bound: ${fault}.`.replace(/\.\.$/, '.') };
    if (this.#closed) return;
    this.#refuseQueued();
    this.#failures++;
    const wait = Math.min(backOffMs(this.#failures, (this.clock.random(1)[0] as number) / 256) / 4, 30_000);
    this.#retry = setTimeout(() => this.open(), wait);
    this.#retry.unref();
  }

  /** Section 4.11: enquire_link checks that the other side is alive. */
  #enquire(): void {
    if (this.clock.now() - this.#lastHeard < this.settings.enquireMs / 2) return;
    this.#request('enquire_link', {}).catch(() => this.#socket?.destroy(new Error('the centre does not answer enquire_link')));
  }

  #request(command: Pdu['command'], fields: Fields): Promise<Pdu> {
    return new Promise((resolve, reject) => this.#ask({ command, fields, resolve, reject }));
  }

  #ask({ command, fields, resolve, reject }: Request): void {
    // Section 3.2: sequence numbers go from 1 to 0x7FFFFFFF.
    this.#sequence = (this.#sequence % 0x7fffffff) + 1;
    const sequence = this.#sequence;
    try {
      this.#writer?.write({ command, response: false, status: 0, sequence, fields });
    } catch (error) {
      reject(error as Error);
      return;
    }
    if (command === 'submit_sm') this.#underWay++;
    this.#waiting.set(sequence, { command, fields, resolve, reject, until: this.clock.now() + ANSWER_WITHIN_MS });
  }

  /** @returns the request of a sequence number, which is no longer waited for */
  #settle(sequence: number): Waiting | undefined {
    const waiting = this.#waiting.get(sequence);
    if (!waiting) return;
    this.#waiting.delete(sequence);
    if (waiting.command === 'submit_sm') {
      this.#underWay--;
      this.#drain();
    }
    return waiting;
  }

  #giveUp(): void {
    const now = this.clock.now();
    for (const [sequence, { until }] of this.#waiting) {
      if (until > now) return;
      this.#settle(sequence)?.reject(new Error('the centre timed out'));
    }
  }

  #receive(pdu: Pdu, writer: PduWriter): void {
    if (pdu.response) {
      this.#settle(pdu.sequence)?.resolve(pdu);
      return;
    }
    switch (pdu.command) {
      case 'deliver_sm':
        this.onDelivery(pdu.fields).then(
          () => writer.answer(pdu, STATUS.ESME_ROK, TAKEN),
          // Section 5.1.3: the centre keeps it and redelivers it.
          () => writer.answer(pdu, STATUS.ESME_RSYSERR),
        );
        return;
      case 'enquire_link':
        return writer.answer(pdu, STATUS.ESME_ROK);
      case 'unbind':
        writer.answer(pdu, STATUS.ESME_ROK);
        writer.flush();
        this.#socket?.end();
        return;
      default:
        // Section 4.3: an unknown command is answered by generic_nack.
        writer.write({ command: 'generic_nack', response: true, status: STATUS.ESME_RINVCMDID, sequence: pdu.sequence, fields: {} });
    }
  }

  /** Submits one segment when the window has room. @throws Error when the link is not bound, or no answer comes */
  submit(fields: Fields): Promise<Pdu> {
    return new Promise((resolve, reject) => {
      this.#queue.push({ command: 'submit_sm', fields, resolve, reject });
      if (this.#bound) this.#drain();
      else this.#refuseQueued();
    });
  }

  /** Waiting segments go back to the sender, which decides what happens to them. */
  #refuseQueued(): void {
    const error = new Error(this.state.text.replace(/\.$/, ''));
    for (const { reject } of this.#queue.splice(0)) reject(error);
  }

  /** The centre throttles: sending pauses for a while. */
  pause(ms: number): void {
    this.#pausedUntil = Math.max(this.#pausedUntil, this.clock.now() + ms);
    this.#waking ??= setTimeout(() => {
      this.#waking = null;
      this.#drain();
    }, ms);
  }

  #drain(): void {
    if (this.#pausedUntil > this.clock.now()) return;
    while (this.#underWay < this.settings.window) {
      const next = this.#queue.shift();
      if (!next) return;
      this.#ask(next);
    }
  }

  /** Waits until the link is bound or has failed. */
  async settled(withinMs: number): Promise<LinkState> {
    const until = this.clock.now() + withinMs;
    const failures = this.#failures;
    while (!this.#bound && this.#failures === failures && this.clock.now() < until) await new Promise((resolve) => setTimeout(resolve, 20));
    return this.state;
  }

  close(): void {
    this.#closed = true;
    this.state = { bound: false, text: 'The link is closed.' };
    if (this.#retry) clearTimeout(this.#retry);
    if (this.#waking) clearTimeout(this.#waking);
    this.#refuseQueued();
    const socket = this.#socket;
    if (!socket) return;
    // Section 4.2: unbind, and do not wait long for the answer.
    if (this.#bound)
      this.#request('unbind', {})
        .then(() => socket.end())
        .catch(() => socket.destroy());
    setTimeout(() => socket.destroy(), 500).unref();
    this.#bound = false;
  }
}

/** Section 5.1.3: why a bind was refused, and what to check. */
function bindWords(status: number, systemId: string): string {
  if (status === STATUS.ESME_RINVPASWD) return `the centre refuses the password of ${systemId} (ESME_RINVPASWD)`;
  if (status === STATUS.ESME_RINVSYSID) return `the centre does not know the system id ${systemId} (ESME_RINVSYSID)`;
  if (status === STATUS.ESME_RALYBND) return `${systemId} is already bound as often as the centre allows (ESME_RALYBND); lower \`binds\``;
  return `the centre refuses to bind (${statusName(status)})`;
}
