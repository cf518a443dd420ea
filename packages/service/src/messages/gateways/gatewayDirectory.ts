/** The gateways of each environment as senders, kept open while their rows stay as they are. */
import { createPrivateKey } from 'node:crypto';
import type { JsonObject } from '@orchard/core';
import { CompiledMapping, type GatewayMapping, readPhoneNumber } from '@orchard/core/reach';
import { eq } from 'drizzle-orm';
import { Agent } from 'undici';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Database } from '../../platform/database/connection.js';
import { clients } from '../../platform/database/systemTables.js';
import { exchangedTokens, signedTokens } from './bearerTokens.js';
import type { ServiceAccount } from './credentials.js';
import { DiscreetSender, isUnnamedPrivate } from './discretion.js';
import { MailSender, type MailSettings } from './mail.js';
import { MappedSender } from './mapped.js';
import type { Sender } from './sender.js';
import { type SmsEvents, SmppSender } from './smpp.js';
import type { SmppSettings } from './smppLink.js';
import { type GatewayRow, GatewayStore } from './store.js';
import { WEB_PUSH, type WebPushGateway } from './webPush.js';

/** Another instance sees a changed gateway within this time. */
const REMEMBER_MS = 2_000;

/** What is sealed with a gateway, by kind. */
export type Secrets =
  | { kind: 'certificate'; key: string; certificates: string }
  | { kind: 'token'; key: string }
  | { kind: 'token'; account: ServiceAccount }
  | { kind: 'password'; password: string };

export type OpenGateway = { row: GatewayRow; sender: Sender };
type Opened = OpenGateway & { stamp: string };
type Clock = { now: () => number; random: (bytes: number) => Buffer };
export type EventsOf = (environmentId: string, gateway: string) => SmsEvents;

export class GatewayDirectory {
  readonly #rows = new Map<string, { rows: GatewayRow[]; until: number }>();
  readonly #opened = new Map<string, Opened>();
  readonly store: GatewayStore;

  constructor(
    private readonly database: Database,
    private readonly secretKey: Buffer,
    private readonly clock: Clock,
    private readonly webPush: WebPushGateway,
    private readonly eventsOf: EventsOf,
    /** Private addresses that gateways may speak of, as the settings name them. */
    private readonly named: readonly string[],
  ) {
    this.store = new GatewayStore(database);
  }

  /** The environment's gateways, as they were at most two seconds ago. */
  async rows(environmentId: string): Promise<GatewayRow[]> {
    const known = this.#rows.get(environmentId);
    if (known && known.until > this.clock.now()) return known.rows;
    const rows = await this.store.ofEnvironment(environmentId);
    this.#rows.set(environmentId, { rows, until: this.clock.now() + REMEMBER_MS });
    return rows;
  }

  /** After a change here: the next look is a fresh one. */
  forget(environmentId: string): void {
    this.#rows.delete(environmentId);
  }

  /** A gateway ready to send, or null when there is none of the name. */
  async open(environmentId: string, name: string): Promise<OpenGateway | null> {
    const row = (await this.rows(environmentId)).find((one) => one.name === name);
    return row ? this.#openRow(row) : null;
  }

  /** The first gateway of a kind that carries short messages or mail; live before trial. */
  async openFor(environmentId: string, way: 'sms' | 'mail'): Promise<OpenGateway | null> {
    const kinds = way === 'sms' ? ['smpp', 'http'] : ['smtp'];
    const rows = (await this.rows(environmentId)).filter(({ kind }) => kinds.includes(kind));
    const row = rows.find(({ stage }) => stage === 'live') ?? rows[0];
    return row ? this.#openRow(row) : null;
  }

  async #openRow(row: GatewayRow): Promise<OpenGateway> {
    const client = await this.#client(row);
    const stamp = `${row.updatedAt.getTime()} ${row.mappingVersion} ${client.storeId} ${client.project}`;
    const known = this.#opened.get(row.id);
    if (known?.stamp === stamp) return known;
    const mapping = row.mappingVersion ? await this.store.mapping(row.id, row.mappingVersion) : null;
    const made = this.make(row, mapping, client);
    const sender = (await isUnnamedPrivate(row.kind, row.settings as JsonObject, this.named)) ? new DiscreetSender(made) : made;
    // Two calls at the same time must not leave one sender open and forgotten.
    const meanwhile = this.#opened.get(row.id);
    if (meanwhile?.stamp === stamp) {
      sender.close();
      return meanwhile;
    }
    const opened = { row, sender, stamp };
    this.#opened.set(row.id, opened);
    known?.sender.close();
    return opened;
  }

  async #client(row: GatewayRow): Promise<{ name: string; storeId: string | null; project: string | null }> {
    if (!row.client) return { name: '', storeId: null, project: null };
    const found = await this.database.orm.select().from(clients).where(eq(clients.environmentId, row.environmentId));
    const client = found.find(({ name }) => name === row.client);
    return { name: row.client, storeId: client?.storeId ?? null, project: client?.project ?? null };
  }

  seal(row: Pick<GatewayRow, 'environmentId' | 'name'>, secrets: Secrets): string {
    return seal(this.secretKey, `${row.environmentId}:${row.name}`, JSON.stringify(secrets));
  }

  /** Builds the sender of a row. */
  make(row: GatewayRow, document: GatewayMapping | null, client: { name: string; storeId: string | null; project: string | null }): Sender {
    if (row.kind === WEB_PUSH) return this.webPush.senderFor(row.environmentId);
    const secrets = JSON.parse(unseal(this.secretKey, `${row.environmentId}:${row.name}`, row.sealed).toString()) as Secrets;
    const settings = row.settings as JsonObject;
    const password = secrets.kind === 'password' ? secrets.password : '';
    if (row.kind === 'smpp') {
      const events = this.eventsOf(row.environmentId, row.name);
      return new SmppSender(settings as unknown as SmppSettings, password, senderChoice(settings), events, this.clock);
    }
    if (row.kind === 'smtp')
      // Short, since the part of an address before @ has at most 64 letters (RFC 5321 section 4.5.3.1.1).
      return new MailSender(
        settings as unknown as MailSettings,
        password,
        () => `${row.environmentId}.${this.clock.random(8).toString('hex')}`,
      );
    return this.#mapped(row, new CompiledMapping(document as GatewayMapping), client, secrets);
  }

  #mapped(row: GatewayRow, mapping: CompiledMapping, client: JsonObject, secrets: Secrets): Sender {
    const settings = row.settings as Record<string, string | undefined>;
    const tls = {
      ...(settings.trust ? { ca: settings.trust } : {}),
      ...(secrets.kind === 'certificate' ? { key: secrets.key, cert: secrets.certificates } : {}),
    };
    const agent = new Agent({ connections: 64, connect: { timeout: 10_000, ...tls } });
    const account = secrets.kind === 'token' && 'account' in secrets ? secrets.account : null;
    const values: JsonObject = {
      client,
      gateway: { stage: row.stage, address: (settings.address ?? '').replace(/\/+$/, '') },
      credential: {
        keyId: settings.keyId ?? account?.keyId ?? null,
        issuer: settings.issuer ?? null,
        account: account?.account ?? null,
        project: account?.project ?? null,
      },
    };
    const token = mapping.document.token;
    const tokens =
      account && token?.by === 'exchanged'
        ? exchangedTokens(token, account, agent, this.clock.now)
        : secrets.kind === 'token' && 'key' in secrets
          ? signedTokens(mapping, createPrivateKey(secrets.key), values, this.clock.now)
          : null;
    return new MappedSender({
      mapping,
      values,
      tls,
      tokens,
      agent,
      authorization:
        row.kind === 'http' && secrets.kind === 'password' && secrets.password ? authorizationOf(settings.user, secrets.password) : null,
      senderFor: row.kind === 'http' ? senderChoice(row.settings as JsonObject) : null,
      now: this.clock.now,
    });
  }

  /** Opens the links of every SMS centre, so that answers and receipts come in while nothing is sent. */
  async keepLinks(failed: (gateway: string, error: unknown) => Promise<void>): Promise<void> {
    for (const row of await this.store.ofKind('smpp')) {
      try {
        await this.#openRow(row);
      } catch (error) {
        await failed(row.id, error);
      }
    }
  }

  /** Closes what was opened for a gateway that is gone. */
  drop(id: string): void {
    this.#opened.get(id)?.sender.close();
    this.#opened.delete(id);
  }

  close(): void {
    for (const { sender } of this.#opened.values()) sender.close();
    this.#opened.clear();
  }
}

/** RFC 7617 section 2, or RFC 6750 section 2.1. */
const authorizationOf = (user: string | undefined, password: string) =>
  user ? `Basic ${Buffer.from(`${user}:${password}`).toString('base64')}` : `Bearer ${password}`;

/** The sender for a number; its country is looked up only where some country has a sender of its own. */
function senderChoice(settings: JsonObject): (number: string) => string {
  const { sender, senders = {} } = settings as { sender: string; senders?: Record<string, string> };
  if (Object.keys(senders).length === 0) return () => sender;
  return (number) => senders[readPhoneNumber(number).country ?? ''] ?? sender;
}
