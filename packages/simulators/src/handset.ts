/** One simulated phone, tablet or browser with an app on it that uses the backend as any app would: over HTTP. */
import { createECDH, randomBytes, randomUUID } from 'node:crypto';
import type { NotificationMessage } from '@orchard/core';
import { decryptMessage } from '@orchard/core/push';
import type { PushNetwork } from './pushNetwork.js';

export type Backend = { address: string; clientKey: string };
export type HandsetKind = {
  name: string;
  platform: 'ios' | 'android' | 'web';
  model: string;
  os: string;
  appVersion: string;
  locale: string;
  timeZone: string;
  person: { name: string; email: string; password: string };
};
export type Received = NotificationMessage & { key: string; receivedAt: string; opened: boolean };
export type HandsetState = {
  kind: HandsetKind;
  deviceId: string;
  privateKey: string;
  auth: string;
  subscription: string | null;
  permission: 'granted' | 'denied' | 'unasked';
  refreshToken: string | null;
  signedInAs: string | null;
  badge: number;
  received: Received[];
  /** What the last registration came to, in words. */
  registration: { ok: boolean; text: string; at: string } | null;
};

const MOST_KEPT = 20;

export function newHandset(kind: HandsetKind): HandsetState {
  const ecdh = createECDH('prime256v1');
  ecdh.generateKeys();
  return {
    kind,
    deviceId: randomUUID(),
    privateKey: ecdh.getPrivateKey('base64url'),
    auth: randomBytes(16).toString('base64url'),
    subscription: null,
    permission: 'unasked',
    refreshToken: null,
    signedInAs: null,
    badge: 0,
    received: [],
    registration: null,
  };
}

export class Handset {
  #accessToken: string | null = null;

  constructor(
    readonly state: HandsetState,
    private readonly backend: Backend,
    private readonly network: PushNetwork,
    private readonly onChange: () => void,
  ) {
    if (state.subscription) network.listen(state.subscription, (body) => this.#receive(body));
  }

  async #call(method: string, path: string, body?: unknown): Promise<Record<string, unknown>> {
    const reply = await fetch(`${this.backend.address}${path}`, {
      method,
      headers: {
        'orchard-key': this.backend.clientKey,
        'orchard-device': this.state.deviceId,
        'user-agent': `QuillfellHiker/${this.state.kind.appVersion} (${this.state.kind.os})`,
        ...(this.#accessToken ? { authorization: `Bearer ${this.#accessToken}` } : {}),
        ...(body ? { 'content-type': 'application/json' } : {}),
      },
      ...(body ? { body: JSON.stringify(body) } : {}),
    });
    const text = await reply.text();
    const answer = text ? JSON.parse(text) : {};
    if (!reply.ok) throw new Error(answer.detail ?? `The backend answered ${reply.status}.`);
    return answer;
  }

  /** After a restart: a fresh access token, and the registration renewed. */
  async wake(): Promise<void> {
    const { refreshToken } = this.state;
    if (refreshToken)
      await this.#keepTokens(await this.#call('POST', '/app/v1/sessions', { refreshToken })).catch(() => this.#forgetSession());
    await this.register();
  }

  /** Signs in as the handset's person, making the account the first time. */
  async signIn(): Promise<void> {
    const { email, password, name } = this.state.kind.person;
    this.#accessToken = null;
    const tokens = await this.#call('POST', '/app/v1/sessions', { email, password }).catch(() =>
      this.#call('POST', '/app/v1/users', { email, password, name }),
    );
    await this.#keepTokens(tokens);
    await this.register();
  }

  async signOut(): Promise<void> {
    await this.#call('DELETE', '/app/v1/sessions/current').catch(() => undefined);
    this.#forgetSession();
    await this.register();
  }

  async #keepTokens(tokens: Record<string, unknown>): Promise<void> {
    this.#accessToken = String(tokens.accessToken);
    this.state.refreshToken = String(tokens.refreshToken);
    this.state.signedInAs = String(
      (tokens.user as { name: string | null; email: string }).name ?? (tokens.user as { email: string }).email,
    );
    this.onChange();
  }

  #forgetSession(): void {
    this.#accessToken = null;
    this.state.refreshToken = null;
    this.state.signedInAs = null;
    this.onChange();
  }

  /** The person allows notifications: subscribe at the network with the backend's key, then register. */
  async allow(): Promise<void> {
    const { applicationServerKey } = await this.#call('GET', '/app/v1/push-key');
    const { id } = this.network.subscribe(String(applicationServerKey));
    this.network.listen(id, (body) => this.#receive(body));
    this.state.subscription = id;
    this.state.permission = 'granted';
    await this.register();
  }

  async forbid(): Promise<void> {
    if (this.state.subscription) this.network.unsubscribe(this.state.subscription);
    this.state.subscription = null;
    this.state.permission = 'denied';
    await this.register();
  }

  /** Uninstalls without a word: the network knows, the backend will learn from it. */
  uninstall(): void {
    if (this.state.subscription) this.network.unsubscribe(this.state.subscription);
    this.onChange();
  }

  async register(): Promise<void> {
    const { kind, deviceId, permission, subscription, auth } = this.state;
    const ecdh = createECDH('prime256v1');
    ecdh.setPrivateKey(this.state.privateKey, 'base64url');
    const at = new Date().toISOString();
    try {
      await this.#call('PUT', `/app/v1/devices/${deviceId}`, {
        platform: kind.platform,
        appVersion: kind.appVersion,
        os: kind.os,
        model: kind.model,
        locale: kind.locale,
        timeZone: kind.timeZone,
        permission,
        subscription: subscription
          ? { endpoint: this.network.endpoint(subscription), keys: { p256dh: ecdh.getPublicKey('base64url'), auth } }
          : null,
      });
      this.state.registration = { ok: true, text: 'Registered', at };
    } catch (error) {
      this.state.registration = { ok: false, text: (error as Error).message, at };
    }
    this.onChange();
  }

  #receive(body: Buffer): void {
    const plain = decryptMessage(body, Buffer.from(this.state.privateKey, 'base64url'), Buffer.from(this.state.auth, 'base64url'));
    const message = JSON.parse(plain.toString()) as NotificationMessage;
    this.state.received.unshift({ ...message, key: randomBytes(6).toString('hex'), receivedAt: new Date().toISOString(), opened: false });
    this.state.received.length = Math.min(this.state.received.length, MOST_KEPT);
    this.state.badge = message.badge ?? this.state.badge + 1;
    this.onChange();
  }

  open(key: string): void {
    const message = this.state.received.find((received) => received.key === key);
    if (!message) return;
    if (!message.opened) this.state.badge = Math.max(0, this.state.badge - 1);
    message.opened = true;
    this.onChange();
  }
}
