/** An SMS centre that speaks SMPP 3.4, with the phones behind it; and Heron, which takes the same texts over HTTP. */
import { randomBytes } from 'node:crypto';
import { createServer as createHttpServer } from 'node:http';
import { type AddressInfo, createServer, type Socket } from 'node:net';
import { encodePdu, type Fields, incomingFields, type Pdu, PduReader, readDelivery, receiptFields, STATUS } from '@orchard/core/smpp';
import { Faults } from './faults.js';

export type Text = { from: string; to: string; text: string; at: string };
/** The role of a bound connection. */
type Link = { socket: Socket; systemId: string | null; sequence: number; waiting: Map<number, () => void> };
type Account = { password: string; mostBinds: number };
/** What the centre delivers, and its account; null: any bound one. */
type Brought = { fields: Fields; systemId: string | null };
const RECEIPT_AFTER_MS = 20;
const WINDOW = 500;

export class SmsCentre {
  readonly faults = new Faults();
  readonly #accounts = new Map<string, Account>();
  readonly #links = new Set<Link>();
  /** Texts on each phone, the latest last. */
  readonly #phones = new Map<string, Text[]>();
  /** Numbers that do not exist, or are switched off. */
  readonly unreachable = new Set<string>();
  readonly #parts = new Map<string, (string | undefined)[]>();
  readonly #undelivered: Brought[] = [];
  readonly #listeners: ((text: Text) => void)[] = [];
  /** Ids of messages: the centre's own, and a count. */
  readonly #idPrefix = randomBytes(4).toString('hex');
  #lastId = 0;
  accepted = 0;
  port = 0;
  httpAddress = '';
  /** The bearer token that Heron accepts. */
  readonly httpToken = 'heron-token';
  readonly #server = createServer((socket) => this.#take(socket));
  readonly #http = createHttpServer(async (request, response) => {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk as Buffer);
    const form = new URLSearchParams(Buffer.concat(chunks).toString());
    const say = (status: number, document: object) =>
      response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(document));
    const fault = this.faults.take();
    if (fault.mode === 'throttle') return say(429, { why: 'slower' });
    if (fault.mode === 'refuse') return say(fault.status, { why: 'refused on request' });
    if (fault.mode === 'drop') return request.socket.destroy();
    if (request.method === 'HEAD') return response.writeHead(204).end();
    if (request.headers.authorization !== `Bearer ${this.httpToken}`) return say(401, { why: 'token' });
    const to = `+${form.get('to')}`;
    if (this.unreachable.has(to)) return say(404, { why: 'no such number' });
    this.#show({ from: form.get('from') ?? '', to, text: form.get('text') ?? '', at: new Date().toISOString() });
    return say(202, { text: this.#newId() });
  });

  async start(port = 0, httpPort = 0): Promise<void> {
    await new Promise<void>((resolve, reject) => this.#server.once('error', reject).listen(port, '127.0.0.1', resolve));
    await new Promise<void>((resolve, reject) => this.#http.once('error', reject).listen(httpPort, '127.0.0.1', resolve));
    this.port = (this.#server.address() as AddressInfo).port;
    this.httpAddress = `http://127.0.0.1:${(this.#http.address() as AddressInfo).port}`;
  }

  openAccount(systemId: string, password: string, mostBinds = 10): void {
    this.#accounts.set(systemId, { password, mostBinds });
  }

  /** Texts on a phone, the oldest first. */
  textsOf(number: string): Text[] {
    return this.#phones.get(number) ?? [];
  }

  onText(listener: (text: Text) => void): void {
    this.#listeners.push(listener);
  }

  get bound(): number {
    return [...this.#links].filter(({ systemId }) => systemId !== null).length;
  }

  /** A phone sends a text to the service: over a bound connection, or as soon as there is one. */
  sendFrom(number: string, to: string, text: string): void {
    for (const fields of incomingFields({ from: number, to, text, reference: randomBytes(1)[0] as number }))
      this.#bring({ fields, systemId: null });
  }

  /** Cuts every connection, as a fault of the network would. */
  dropAll(): void {
    for (const { socket } of this.#links) socket.destroy();
  }

  #take(socket: Socket): void {
    const link: Link = { socket, systemId: null, sequence: 0, waiting: new Map() };
    this.#links.add(link);
    socket.setNoDelay(true);
    const reader = new PduReader();
    socket.on('data', (chunk: Buffer) => {
      try {
        for (const pdu of reader.push(chunk)) this.#handle(link, pdu);
      } catch {
        socket.destroy();
      }
    });
    socket.on('error', () => undefined);
    socket.on('close', () => this.#links.delete(link));
  }

  #answer({ socket }: Link, { command, sequence }: Pdu, status: number, fields: Fields = {}): void {
    if (!socket.destroyed) socket.write(encodePdu({ command, response: true, status, sequence, fields }));
  }

  #handle(link: Link, pdu: Pdu): void {
    if (pdu.response) {
      const settle = link.waiting.get(pdu.sequence);
      link.waiting.delete(pdu.sequence);
      if (pdu.status === STATUS.ESME_ROK) settle?.();
      this.#bringLeft(link, 1);
      return;
    }
    switch (pdu.command) {
      case 'bind_transceiver':
        return this.#bind(link, pdu);
      case 'enquire_link':
        return this.#answer(link, pdu, STATUS.ESME_ROK);
      case 'unbind':
        this.#answer(link, pdu, STATUS.ESME_ROK);
        return void link.socket.end();
      case 'submit_sm':
        // Section 2.2: nothing but binding is allowed before the session is bound.
        if (!link.systemId) return this.#answer(link, pdu, STATUS.ESME_RINVBNDSTS);
        return this.#submit(link, pdu);
      default:
        link.socket.write(
          encodePdu({ command: 'generic_nack', response: true, status: STATUS.ESME_RINVCMDID, sequence: pdu.sequence, fields: {} }),
        );
    }
  }

  /** Section 4.1.5. */
  #bind(link: Link, pdu: Pdu): void {
    const name = String(pdu.fields.system_id);
    const account = this.#accounts.get(name);
    if (!account) return this.#answer(link, pdu, STATUS.ESME_RINVSYSID);
    if (account.password !== pdu.fields.password) return this.#answer(link, pdu, STATUS.ESME_RINVPASWD);
    if ([...this.#links].filter(({ systemId }) => systemId === name).length >= account.mostBinds)
      return this.#answer(link, pdu, STATUS.ESME_RALYBND);
    link.systemId = name;
    this.#answer(link, pdu, STATUS.ESME_ROK, { system_id: 'HERON', sc_interface_version: 0x34 });
    this.#bringLeft(link, WINDOW);
  }

  #newId(): string {
    return `${this.#idPrefix}${(++this.#lastId).toString(16).padStart(8, '0')}`;
  }

  #submit(link: Link, pdu: Pdu): void {
    const fault = this.faults.take();
    if (fault.mode === 'throttle') return this.#answer(link, pdu, STATUS.ESME_RTHROTTLED);
    if (fault.mode === 'refuse') return this.#answer(link, pdu, STATUS.ESME_RSUBMITFAIL);
    if (fault.mode === 'drop') return void link.socket.destroy();
    const messageId = this.#newId();
    const take = () => {
      this.accepted++;
      this.#answer(link, pdu, STATUS.ESME_ROK, { message_id: messageId });
      this.#deliver(link, pdu.fields, messageId, fault.mode === 'lose-receipts');
    };
    if (fault.mode === 'slow') setTimeout(take, fault.delayMs);
    else take();
  }

  #deliver({ systemId }: Link, fields: Fields, messageId: string, silent: boolean): void {
    const read = readDelivery(fields);
    if (!('message' in read)) return;
    const { from, to, text, part } = read.message;
    const reached = !this.unreachable.has(to);
    if (reached) this.#join(from, to, text, part);
    if (silent || !fields.registered_delivery) return;
    const receipt = receiptFields({ from, to, messageId, state: reached ? 2 : 5, text, at: new Date() });
    setTimeout(() => this.#bring({ fields: receipt, systemId }), RECEIPT_AFTER_MS).unref();
  }

  #join(from: string, to: string, text: string, part: { reference: number; of: number; number: number } | null): void {
    const at = new Date().toISOString();
    if (!part) return this.#show({ from, to, text, at });
    const name = `${from} ${to} ${part.reference}`;
    const parts = this.#parts.get(name) ?? Array.from<string | undefined>({ length: part.of });
    parts[part.number - 1] = text;
    this.#parts.set(name, parts);
    if (parts.some((one) => one === undefined)) return;
    this.#parts.delete(name);
    this.#show({ from, to, text: parts.join(''), at });
  }

  #show(text: Text): void {
    const texts = this.#phones.get(text.to) ?? [];
    texts.push(text);
    this.#phones.set(text.to, texts.slice(-50));
    for (const listener of this.#listeners) listener(text);
  }

  /**
   * Section 4.6: delivers a message or receipt to a bound connection of its account, repeatedly until it is acknowledged.
   */
  #bring(brought: Brought): void {
    const bound = [...this.#links].filter((link) => mayTake(link, brought));
    const link = bound[Math.floor(Math.random() * bound.length)];
    if (!link) return void this.#undelivered.push(brought);
    const sequence = ++link.sequence;
    const again = setTimeout(() => {
      link.waiting.delete(sequence);
      this.#bring(brought);
    }, 20_000);
    again.unref();
    link.waiting.set(sequence, () => clearTimeout(again));
    link.socket.write(encodePdu({ command: 'deliver_sm', response: false, status: 0, sequence, fields: brought.fields }));
  }

  /** Delivers what waited for such a connection, up to a number. */
  #bringLeft(link: Link, most: number): void {
    for (let i = 0; i < most; i++) {
      const at = this.#undelivered.findIndex((brought) => mayTake(link, brought));
      if (at < 0) return;
      for (const brought of this.#undelivered.splice(at, 1)) this.#bring(brought);
    }
  }

  async stop(): Promise<void> {
    this.dropAll();
    this.#http.closeAllConnections();
    await Promise.all([new Promise((resolve) => this.#server.close(resolve)), new Promise((resolve) => this.#http.close(resolve))]);
  }
}

const mayTake = ({ systemId, waiting }: Link, brought: Brought): boolean =>
  systemId !== null && waiting.size < WINDOW && (brought.systemId === null || brought.systemId === systemId);
