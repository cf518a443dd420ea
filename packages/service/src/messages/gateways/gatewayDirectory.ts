/** The gateways of each environment as senders, kept open until their rows change. */
import { createPrivateKey } from 'node:crypto';
import type { JsonObject } from '@orchard/core';
import { CompiledMapping, type GatewayMapping, readPhoneNumber } from '@orchard/core/messages';
import { Agent } from 'undici';
import { clearing } from '../../platform/database/unit.js';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Client } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { isGone } from '../../platform/database/errors.js';
import { exchangedTokens, signedTokens } from './bearerTokens.js';
import type { ClientFacts, ServiceAccount } from './credentials.js';
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
export type EventsOf = (environment: Environment, gateway: string) => SmsEvents;

/** Credentials as stored: sealed with the environment's key, and usable for their gateway alone. */
export const sealSecrets = (environment: Environment, name: string, secrets: Secrets): string =>
  seal(environment.keys.data, contextOf(environment, name), JSON.stringify(secrets));
const unsealSecrets = (environment: Environment, { name, sealed }: Pick<GatewayRow, 'name' | 'sealed'>): Secrets =>
  JSON.parse(unseal(environment.keys.data, contextOf(environment, name), sealed).toString());
export const contextOf = ({ sealedFor: id }: Pick<Environment, 'sealedFor'>, name: string): string => `${id}:${name}`;

export class GatewayDirectory {
  readonly #rows = new Map<string, { rows: GatewayRow[]; until: number }>();
  readonly #opened = new Map<string, Opened>();
  /** Environments that have SMS centres. */
  readonly #linked = new Map<string, Environment>();
  readonly store = new GatewayStore();

  constructor(
    private readonly clients: (environment: Environment, name: string) => Promise<Pick<Client, 'packageIdentifier' | 'project'> | null>,
    private readonly clock: Clock,
    private readonly webPush: WebPushGateway,
    private readonly eventsOf: EventsOf,
    /** Private addresses that the settings list for gateways. */
    private readonly named: readonly string[],
  ) {}

  /** The environment's gateways, as they were at most two seconds ago. */
  async rows(environment: Environment): Promise<GatewayRow[]> {
    const known = this.#rows.get(environment.id);
    if (known && known.until > this.clock.now()) return known.rows;
    const rows = await this.store.all(environment);
    this.#rows.set(environment.id, { rows, until: this.clock.now() + REMEMBER_MS });
    if (rows.some(({ kind }) => kind === 'smpp')) this.#linked.set(environment.id, environment);
    return rows;
  }

  /** After a change here: the next lookup reads the rows again. */
  forget(environment: Pick<Environment, 'id'>): void {
    clearing(() => this.#rows.delete(environment.id));
  }

  /** A gateway ready to send; null if there is none of this name. */
  async open(environment: Environment, name: string): Promise<OpenGateway | null> {
    const row = (await this.rows(environment)).find((one) => one.name === name);
    return row ? this.#openRow(environment, row) : null;
  }

  /** The first gateway of a kind that carries short messages or mail; live before trial. */
  async openFor(environment: Environment, way: 'sms' | 'mail'): Promise<OpenGateway | null> {
    const kinds = way === 'sms' ? ['smpp', 'http'] : ['smtp'];
    const rows = (await this.rows(environment)).filter(({ kind }) => kinds.includes(kind));
    const row = rows.find(({ stage }) => stage === 'live') ?? rows[0];
    return row ? this.#openRow(environment, row) : null;
  }

  async #openRow(environment: Environment, row: GatewayRow): Promise<OpenGateway> {
    const client = await this.#client(environment, row.client);
    const stamp = `${row.updatedAt.getTime()} ${row.mappingVersion} ${client.packageIdentifier} ${client.project}`;
    const known = this.#opened.get(row.id);
    if (known?.stamp === stamp) return known;
    const mapping = row.mappingVersion ? await this.store.mapping(environment, row.id, row.mappingVersion) : null;
    const made = this.make(environment, row, mapping, client);
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

  async #client(environment: Environment, name: string | null): Promise<ClientFacts> {
    const client = name ? await this.clients(environment, name) : null;
    return { name: name ?? '', packageIdentifier: client?.packageIdentifier ?? null, project: client?.project ?? null };
  }

  /** Builds the sender of a row. */
  make(environment: Environment, row: GatewayRow, document: GatewayMapping | null, client: ClientFacts): Sender {
    if (row.kind === WEB_PUSH) return this.webPush.senderFor(environment);
    const secrets = unsealSecrets(environment, row);
    const settings = row.settings as JsonObject;
    const password = secrets.kind === 'password' ? secrets.password : '';
    if (row.kind === 'smpp') {
      const events = this.eventsOf(environment, row.name);
      return new SmppSender(settings as unknown as SmppSettings, password, senderChoice(settings), events, this.clock);
    }
    if (row.kind === 'smtp')
      // Short, since the part of an address before @ has at most 64 characters (RFC 5321 section 4.5.3.1.1).
      return new MailSender(
        settings as unknown as MailSettings,
        password,
        () => `${environment.id}.${this.clock.random(8).toString('hex')}`,
      );
    return this.#mapped(row, new CompiledMapping(document as GatewayMapping), client, secrets);
  }

  /** The project that a service account belongs to; null for other credentials. */
  projectOf(environment: Environment, row: GatewayRow): string | null {
    const secrets = unsealSecrets(environment, row);
    return secrets.kind === 'token' && 'account' in secrets ? secrets.account.project : null;
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

  /** Opens the links of known SMS centres, so that replies and receipts arrive while nothing is sent. */
  async keepLinks(failed: (gateway: string, error: unknown) => Promise<void>): Promise<void> {
    for (const environment of this.#linked.values()) {
      try {
        const rows = await this.store.ofKind(environment, 'smpp');
        if (rows.length === 0) this.#linked.delete(environment.id);
        for (const row of rows) await this.#openRow(environment, row).catch((error) => failed(row.id, error));
      } catch (error) {
        if (!isGone(error)) throw error;
        this.#linked.delete(environment.id);
      }
    }
  }

  /** Finds environments with SMS centres: another instance may have added one. */
  async findLinks(environments: readonly Environment[]): Promise<void> {
    for (const environment of environments)
      if (!this.#linked.has(environment.id) && (await this.store.ofKind(environment, 'smpp')).length > 0)
        this.#linked.set(environment.id, environment);
  }

  /** Closes the senders of removed gateways. */
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
