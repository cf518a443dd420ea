/** One connection to an SMS centre: bound as transceiver, kept alive, opened anew when it ends (SMPP 3.4). */
import { createConnection, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { backOffMs } from '@orchard/core';
import { encodePdu, type Fields, type Pdu, PduReader, STATUS, statusName } from '@orchard/core/smpp';

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
/** Handles what the centre brings; the answer goes out when it is stored. */
export type OnDelivery = (fields: Fields) => Promise<void>;

const ANSWER_WITHIN_MS = 15_000;
/** Section 4.1.1: the version of the interface. */
const VERSION_3_4 = 0x34;
type Waiting = { resolve: (pdu: Pdu) => void; reject: (error: Error) => void; timer: NodeJS.Timeout };

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
  readonly #waiting = new Map<number, Waiting>();
  readonly #queue: (() => void)[] = [];
  readonly #outgoing: Buffer[] = [];
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
    this.#socket = socket;
    socket.setNoDelay(true);
    const reader = new PduReader();
    const impatient = setTimeout(() => socket.destroy(new Error('no connection in time')), 10_000);
    socket.once(tls ? 'secureConnect' : 'connect', () => {
      clearTimeout(impatient);
      void this.#bind();
    });
    socket.on('data', (chunk: Buffer) => {
      this.#lastHeard = this.clock.now();
      try {
        for (const pdu of reader.push(chunk)) this.#receive(pdu);
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
    this.#outgoing.length = 0;
    this.#bound = false;
    if (this.#enquiry) clearInterval(this.#enquiry);
    const error = Object.assign(new Error(fault), { code: undefined });
    for (const { reject, timer } of this.#waiting.values()) {
      clearTimeout(timer);
      reject(error);
    }
    this.#waiting.clear();
    this.state = { bound: false, text: `Not bound: ${fault}.`.replace(/\.\.$/, '.') };
    if (this.#closed) return;
    // What waited for room goes back to the sender, which decides what becomes of it.
    for (const go of this.#queue.splice(0)) go();
    this.#failures++;
    const wait = Math.min(backOffMs(this.#failures, (this.clock.random(1)[0] as number) / 256) / 4, 30_000);
    this.#retry = setTimeout(() => this.open(), wait);
    this.#retry.unref();
  }

  /** Section 4.11: enquire_link tells whether the other side lives. */
  #enquire(): void {
    if (this.clock.now() - this.#lastHeard < this.settings.enquireMs / 2) return;
    this.#request('enquire_link', {}).catch(() => this.#socket?.destroy(new Error('the centre does not answer enquire_link')));
  }

  /** What is written in one turn of the event loop goes out as one. */
  #write(pdu: Pdu): void {
    if (!this.#socket) return;
    if (this.#outgoing.length === 0) setImmediate(() => this.#flush());
    this.#outgoing.push(encodePdu(pdu));
  }

  #flush(): void {
    const units = this.#outgoing.splice(0);
    if (units.length > 0) this.#socket?.write(Buffer.concat(units));
  }

  #request(command: Pdu['command'], fields: Fields): Promise<Pdu> {
    // Section 3.2: sequence numbers go from 1 to 0x7FFFFFFF.
    this.#sequence = (this.#sequence % 0x7fffffff) + 1;
    const sequence = this.#sequence;
    return new Promise((resolve, reject) => {
      const timer = setTimeout(() => {
        this.#waiting.delete(sequence);
        reject(new Error('the centre did not answer in time'));
      }, ANSWER_WITHIN_MS);
      this.#waiting.set(sequence, { resolve, reject, timer });
      try {
        this.#write({ command, response: false, status: 0, sequence, fields });
      } catch (error) {
        clearTimeout(timer);
        this.#waiting.delete(sequence);
        reject(error as Error);
      }
    });
  }

  #receive(pdu: Pdu): void {
    if (pdu.response) {
      const waiting = this.#waiting.get(pdu.sequence);
      if (!waiting) return;
      clearTimeout(waiting.timer);
      this.#waiting.delete(pdu.sequence);
      return waiting.resolve(pdu);
    }
    const answer = (status: number, fields: Fields = {}) => this.#write({ ...pdu, response: true, status, fields });
    switch (pdu.command) {
      case 'deliver_sm':
        this.onDelivery(pdu.fields).then(
          () => answer(STATUS.ESME_ROK, { message_id: '' }),
          // Section 5.1.3: the centre keeps it and brings it again.
          () => answer(STATUS.ESME_RSYSERR),
        );
        return;
      case 'enquire_link':
        return answer(STATUS.ESME_ROK);
      case 'unbind':
        answer(STATUS.ESME_ROK);
        this.#flush();
        this.#socket?.end();
        return;
      default:
        // Section 4.3: an unknown command is answered by generic_nack.
        this.#write({ command: 'generic_nack', response: true, status: STATUS.ESME_RINVCMDID, sequence: pdu.sequence, fields: {} });
    }
  }

  /** Submits one segment when the window has room. @throws Error when the link is not bound, or no answer comes */
  async submit(fields: Fields): Promise<Pdu> {
    if (this.#underWay >= this.settings.window || this.#pausedUntil > this.clock.now())
      await new Promise<void>((resolve) => this.#queue.push(resolve));
    if (!this.#bound) throw new Error(this.state.text.replace(/\.$/, ''));
    this.#underWay++;
    try {
      return await this.#request('submit_sm', fields);
    } finally {
      this.#underWay--;
      this.#drain();
    }
  }

  /** The centre asks for patience: nothing more goes out for a while. */
  pause(ms: number): void {
    this.#pausedUntil = Math.max(this.#pausedUntil, this.clock.now() + ms);
    this.#waking ??= setTimeout(() => {
      this.#waking = null;
      this.#drain();
    }, ms);
  }

  #drain(): void {
    if (this.#pausedUntil > this.clock.now()) return;
    for (let room = this.settings.window - this.#underWay; room > 0 && this.#queue.length > 0; room--) this.#queue.shift()?.();
  }

  /** Waits until the link is bound, or it is known why not. */
  async settled(withinMs: number): Promise<LinkState> {
    const until = this.clock.now() + withinMs;
    const failures = this.#failures;
    while (!this.#bound && this.#failures === failures && this.clock.now() < until) await new Promise((resolve) => setTimeout(resolve, 20));
    return this.state;
  }

  close(): void {
    this.#closed = true;
    if (this.#retry) clearTimeout(this.#retry);
    if (this.#waking) clearTimeout(this.#waking);
    for (const go of this.#queue.splice(0)) go();
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

/** Section 5.1.3: why a bind was refused, and what to look at. */
function bindWords(status: number, systemId: string): string {
  if (status === STATUS.ESME_RINVPASWD) return `the centre refuses the password of ${systemId} (ESME_RINVPASWD)`;
  if (status === STATUS.ESME_RINVSYSID) return `the centre does not know the system id ${systemId} (ESME_RINVSYSID)`;
  if (status === STATUS.ESME_RALYBND) return `${systemId} is bound already as often as the centre allows (ESME_RALYBND); lower \`binds\``;
  return `the centre refuses to bind (${statusName(status)})`;
}
