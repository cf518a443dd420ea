/** The device the app runs on: registered under an id of its own, and reached by web push where the person allows it. */
import type { Device } from '@orchard/contract';
import type { PushHandle, PushState, Registration } from './push.js';
import type { Session } from './session.js';
import type { Transport } from './transport.js';
import type { BodyTo } from './types.js';
import { settable } from './value.js';

export type DeviceHandle = {
  /** The id of this installation; made at first, and kept. */
  id: () => Promise<string>;
  /** Registers this device, or brings its registration up to date. What a browser tells is filled in. */
  register: (more?: Partial<Registration>) => Promise<Device>;
  follow: (topic: string) => Promise<void>;
  unfollow: (topic: string) => Promise<void>;
  /** Reports notifications as received or opened. */
  report: (items: BodyTo<'devices.report'>['items']) => Promise<void>;
  push: PushHandle;
};
export const DEVICE_HEADERS = { id: 'orchard-device', secret: 'orchard-device-secret' } as const;

/** Headers that name a device and prove it. */
export async function deviceHeaders(session: Session, id: string, named = false): Promise<Record<string, string>> {
  const { secrets } = await session.kept();
  const secret = Object.hasOwn(secrets, id) ? secrets[id] : undefined;
  return { ...(named ? { [DEVICE_HEADERS.id]: id } : {}), ...(secret ? { [DEVICE_HEADERS.secret]: secret } : {}) };
}

/** Registers a device under an id, and keeps the secret that comes with its first registration. */
export async function registerDevice(transport: Transport, session: Session, id: string, body: Registration): Promise<Device> {
  const registered = await transport.call('devices.put', { params: { id }, body }, { headers: await deviceHeaders(session, id) });
  if (registered.secret) await session.keepSecret(id, registered.secret);
  return registered;
}

/** What the browser tells of itself. */
function ownRegistration(): Registration {
  const { navigator: known } = globalThis as { navigator?: Navigator };
  const [language, region] = (known?.language ?? 'en').split('-');
  return {
    platform: 'web',
    appVersion: '0',
    os: (known?.userAgent ?? 'unknown').replace(/^.*?\(([^)]*)\).*$/, '$1').slice(0, 80) || 'unknown',
    locale: region ? `${language}-${region}` : (language ?? 'en'),
    timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
    permission: permissionNow(),
    ...(region && /^[A-Z]{2}$/.test(region) ? { country: region } : {}),
  };
}
const permissionNow = (): PushState['permission'] => {
  const { Notification: notes } = globalThis as { Notification?: { permission: string } };
  return notes?.permission === 'granted' ? 'granted' : notes?.permission === 'denied' ? 'denied' : 'unasked';
};

/** @param log where a failure is reported besides */
export function deviceHandle(transport: Transport, session: Session, log: (text: string) => void): DeviceHandle {
  let made: Promise<string> | undefined;
  const id = () => {
    made ??= session
      .read()
      .then(async ({ device }) => device ?? ((await session.change({ device: crypto.randomUUID() })).device as string));
    return made;
  };
  let registration: Partial<Registration> = {};
  const register = async (more: Partial<Registration> = {}) => {
    registration = { ...registration, ...more };
    return registerDevice(transport, session, await id(), { ...ownRegistration(), ...registration });
  };
  const withDevice = async (then: (id: string, headers: Record<string, string>) => Promise<unknown>) => {
    const own = await id();
    await then(own, await deviceHeaders(session, own));
  };
  const report = (items: BodyTo<'devices.report'>['items']) =>
    withDevice((own, headers) => transport.call('devices.report', { params: { id: own }, body: { items } }, { headers }));
  const state = settable<PushState>({ permission: permissionNow(), subscribed: false, why: 'Push has not been turned on here.' });
  let loaded: Promise<Omit<PushHandle, 'state'>> | undefined;
  const part = () => {
    loaded ??= import('./push.js').then(({ pushHandle }) => pushHandle(transport, { state, permissionNow, register, report, log }));
    return loaded;
  };
  /** Listening begins as soon as the part is there. */
  const listening = (listen: (push: Omit<PushHandle, 'state'>) => () => void) => {
    const end = part().then(listen);
    return () => void end.then((stop) => stop());
  };
  const push: PushHandle = {
    state,
    enable: async (worker) => (await part()).enable(worker),
    disable: async () => (await part()).disable(),
    onMessage: (take) => listening(({ onMessage }) => onMessage(take)),
    onOpened: (listener) => listening(({ onOpened }) => onOpened(listener)),
  };
  return {
    id,
    register,
    report,
    follow: (topic) => withDevice((own, headers) => transport.call('devices.follow', { params: { id: own, topic } }, { headers })),
    unfollow: (topic) => withDevice((own, headers) => transport.call('devices.unfollow', { params: { id: own, topic } }, { headers })),
    push,
  };
}
