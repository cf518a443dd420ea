/** One simulated phone, tablet or browser with an app on it that uses the backend as any app would: over HTTP. */
import { createECDH, randomBytes, randomUUID } from 'node:crypto';
import type { NotificationMessage } from '@orchard/core';
import { decryptMessage } from '@orchard/core/push';
import type { CairnMessage, CairnNetwork } from './cairn.js';
import type { PushNetwork } from './pushNetwork.js';
import type { TarnLetter, TarnNetwork } from './tarn.js';

export type Backend = { address: string; clientKey: string };
/** The networks a handset can be reached by. */
export type Networks = { web: PushNetwork; cairn: CairnNetwork; tarn: TarnNetwork };
export type HandsetKind = {
  name: string;
  /** Which push network its app uses; web push, if left out. */
  network?: { is: 'cairn'; packageIdentifier: string; stage: 'trial' | 'live' } | { is: 'tarn'; project: string };
  /** Key of the client its app is, where that is not the one of all handsets. */
  clientKey?: string;
  /** Its phone number, E.164. */
  phone?: string;
  country?: string;
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
  /** Its secret from the backend; calls for the device send it. */
  deviceSecret?: string;
  privateKey: string;
  auth: string;
  /** Its subscription at the web push network, or its token at another. */
  subscription: string | null;
  /** The web push key it subscribed with. */
  pushKey?: string;
  permission: 'granted' | 'denied' | 'unasked';
  refreshToken: string | null;
  signedInAs: string | null;
  badge: number;
  received: Received[];
  /** The result of the last registration, in words. */
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
  #telling: NodeJS.Timeout | null = null;
  readonly #untold: { notification: string; event: 'received' | 'opened'; at: string }[] = [];

  constructor(
    readonly state: HandsetState,
    private readonly backend: Backend,
    private readonly networks: Networks,
    private readonly onChange: () => void,
  ) {
    if (state.subscription) this.#listen(state.subscription);
  }

  async #call(method: string, path: string, body?: unknown): Promise<Record<string, unknown>> {
    const reply = await fetch(`${this.backend.address}${path}`, {
      method,
      headers: {
        'orchard-key': this.state.kind.clientKey ?? this.backend.clientKey,
        'orchard-device': this.state.deviceId,
        ...(this.state.deviceSecret ? { 'orchard-device-secret': this.state.deviceSecret } : {}),
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

  /** The person allows notifications: the app gets an address at its push network, then registers. */
  async allow(): Promise<void> {
    const { network } = this.state.kind;
    const { web, cairn, tarn } = this.networks;
    let id: string;
    if (network?.is === 'cairn') id = cairn.register(network.packageIdentifier, network.stage);
    else if (network?.is === 'tarn') id = tarn.register(network.project);
    else {
      const { applicationServerKey } = await this.#call('GET', '/app/v1/push-key');
      id = web.subscribe(String(applicationServerKey)).id;
      this.state.pushKey = String(applicationServerKey);
    }
    this.#listen(id);
    this.state.subscription = id;
    this.state.permission = 'granted';
    await this.register();
  }

  #listen(id: string): void {
    const { network } = this.state.kind;
    if (network?.is === 'cairn') this.networks.cairn.listen(id, (message, mark) => this.#show(fromCairn(message, mark)));
    else if (network?.is === 'tarn') this.networks.tarn.listen(id, (letter, mark) => this.#show(fromTarn(letter, mark)));
    else this.networks.web.listen(id, (body) => this.#decrypt(body));
  }

  #leave(): void {
    const { subscription, kind } = this.state;
    if (!subscription) return;
    if (kind.network) this.networks[kind.network.is].uninstall(subscription);
    else this.networks.web.unsubscribe(subscription);
  }

  async forbid(): Promise<void> {
    this.#leave();
    this.state.subscription = null;
    this.state.permission = 'denied';
    await this.register();
  }

  /** Uninstalls silently: the network knows, and the backend learns from it. */
  uninstall(): void {
    this.#leave();
    this.onChange();
  }

  async register(): Promise<void> {
    const { kind, deviceId, permission, subscription, auth } = this.state;
    const ecdh = createECDH('prime256v1');
    ecdh.setPrivateKey(this.state.privateKey, 'base64url');
    const at = new Date().toISOString();
    try {
      const registered = await this.#call('PUT', `/app/v1/devices/${deviceId}`, {
        platform: kind.platform,
        appVersion: kind.appVersion,
        os: kind.os,
        model: kind.model,
        locale: kind.locale,
        timeZone: kind.timeZone,
        permission,
        badge: this.state.badge,
        ...(kind.country ? { country: kind.country } : {}),
        ...(kind.network
          ? {
              pushAddress: subscription
                ? { token: subscription, ...(kind.network.is === 'cairn' ? { stage: kind.network.stage } : {}) }
                : null,
            }
          : {
              subscription: subscription
                ? { endpoint: this.networks.web.endpoint(subscription), keys: { p256dh: ecdh.getPublicKey('base64url'), auth } }
                : null,
              ...(subscription && this.state.pushKey ? { pushKey: this.state.pushKey } : {}),
            }),
      });
      if (typeof registered.secret === 'string') this.state.deviceSecret = registered.secret;
      this.state.registration = { ok: true, text: 'Registered', at };
    } catch (error) {
      this.state.registration = { ok: false, text: (error as Error).message, at };
    }
    this.onChange();
  }

  #decrypt(body: Buffer): void {
    const plain = decryptMessage(body, Buffer.from(this.state.privateKey, 'base64url'), Buffer.from(this.state.auth, 'base64url'));
    this.#show(JSON.parse(plain.toString()) as NotificationMessage);
  }

  #show(message: NotificationMessage): void {
    this.state.received.unshift({ ...message, key: randomBytes(6).toString('hex'), receivedAt: new Date().toISOString(), opened: false });
    this.state.received.length = Math.min(this.state.received.length, MOST_KEPT);
    this.state.badge = typeof message.badge === 'number' ? message.badge : this.state.badge + 1;
    this.#report(message.notification, 'received');
    this.onChange();
  }

  /** Reports to the backend; a failed report is sent again with the next one. */
  #report(notification: string, event: 'received' | 'opened'): void {
    this.#untold.push({ notification, event, at: new Date().toISOString() });
    this.#telling ??= setTimeout(() => void this.#tell(), 20);
  }

  async #tell(): Promise<void> {
    this.#telling = null;
    const items = this.#untold.splice(0, 200);
    try {
      await this.#call('POST', `/app/v1/devices/${this.state.deviceId}/reports`, { items });
    } catch {
      this.#untold.unshift(...items);
    }
  }

  open(key: string): void {
    const message = this.state.received.find((received) => received.key === key);
    if (!message) return;
    if (!message.opened) this.state.badge = Math.max(0, this.state.badge - 1);
    if (!message.opened) this.#report(message.notification, 'opened');
    message.opened = true;
    this.onChange();
  }
}

/** The id of a message names the notification and the device. */
const notificationOf = (mark: string) => mark.split('.')[0] ?? mark;

function fromCairn({ show = {}, link, kind, choices, more, wake }: CairnMessage, mark: string): NotificationMessage {
  return {
    notification: notificationOf(mark),
    sentAt: new Date().toISOString(),
    title: show.head,
    body: show.text,
    badge: show.count,
    sound: show.sound,
    picture: show.picture,
    link,
    category: kind,
    buttons: choices,
    data: more as NotificationMessage['data'],
    silent: wake,
  };
}

function fromTarn(letter: TarnLetter, mark: string): NotificationMessage {
  return {
    notification: notificationOf(mark),
    sentAt: new Date().toISOString(),
    title: letter.heading,
    body: letter.words,
    badge: letter.tally,
    sound: letter.tone,
    picture: letter.image,
    link: letter.leadsTo,
    category: letter.sort,
    buttons: letter.buttons,
    data: letter.extra ? JSON.parse(letter.extra) : undefined,
    silent: letter.quiet,
  };
}
