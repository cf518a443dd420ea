/** Web push in a browser; loaded when an app turns it on or listens for it. */
import type { Transport } from './transport.js';
import type { BodyTo } from './types.js';
import type { Settable, Value } from './value.js';

export type Registration = BodyTo<'devices.put'>;
/** Why a device is not reached by push; null where it is. */
export type PushState = { permission: 'granted' | 'denied' | 'unasked'; subscribed: boolean; why: string | null };
/** What a push brought, as the service sends it. */
export type PushMessage = {
  notification?: string;
  title?: string;
  body?: string;
  link?: string;
  button?: string;
  [member: string]: unknown;
};

export type PushHandle = {
  state: Value<PushState>;
  /**
   * Asks the person, subscribes, and registers the subscription. What fails is reported and stands on Devices with its reason.
   * @param worker the service worker's file, which takes in `orchard-worker.js`
   */
  enable: (worker?: string) => Promise<PushState>;
  disable: () => Promise<void>;
  /**
   * Takes what comes while the app is open; one that answers true has shown it, and the system shows nothing.
   * @returns a function that stops
   */
  onMessage: (take: (message: PushMessage) => boolean | Promise<boolean>) => () => void;
  /** Told of each notification that was opened, and which button of it. */
  onOpened: (listener: (message: PushMessage) => void) => () => void;
};

export type PushGround = {
  state: Settable<PushState>;
  permissionNow: () => PushState['permission'];
  register: (more: Partial<Registration>) => Promise<unknown>;
  report: (items: BodyTo<'devices.report'>['items']) => Promise<void>;
  log: (text: string) => void;
};

export function pushHandle(transport: Transport, { state, permissionNow, register, report, log }: PushGround): Omit<PushHandle, 'state'> {
  const takers = new Set<(message: PushMessage) => boolean | Promise<boolean>>();
  const openers = new Set<(message: PushMessage) => void>();
  let isListening = false;
  const listen = () => {
    if (isListening || !navigator.serviceWorker) return;
    isListening = true;
    navigator.serviceWorker.addEventListener('message', (event) => void hear(event));
    navigator.serviceWorker.startMessages();
  };
  /** The worker asks whether the app shows a message itself, and tells what was opened. */
  const hear = async ({ data, ports }: MessageEvent) => {
    const { orchard: kind, message } = (data ?? {}) as { orchard?: string; message: PushMessage };
    if (!kind) return;
    if (message.notification)
      void report([
        {
          notification: message.notification,
          event: kind === 'opened' ? 'opened' : 'received',
          ...(message.button ? { button: message.button } : {}),
        },
      ]).catch(() => undefined);
    if (kind === 'opened') for (const opened of openers) opened(message);
    else {
      const shown = await Promise.all([...takers].map((take) => take(message)));
      ports[0]?.postMessage({ shown: shown.some(Boolean) });
    }
  };
  const fail = async (why: string): Promise<PushState> => {
    log(`Web push is not on: ${why}`);
    const permission = permissionNow();
    await register({ permission, subscription: null, pushTrouble: why.slice(0, 300) }).catch(() => undefined);
    state.set({ permission, subscribed: false, why });
    return state.current;
  };
  return {
    enable: async (worker = '/orchard-worker.js') => {
      if (!('serviceWorker' in navigator) || !('PushManager' in globalThis)) return fail('This browser has no web push.');
      const asked = await Notification.requestPermission();
      if (asked !== 'granted') return fail(asked === 'denied' ? 'The person does not allow notifications.' : 'The person has not decided.');
      try {
        const { applicationServerKey } = await transport.call('devices.pushKey', {});
        const ready = await navigator.serviceWorker.register(worker);
        await navigator.serviceWorker.ready;
        const before = await ready.pushManager.getSubscription();
        // A subscription of another key can never be sent to: the environment has changed its gateway.
        if (before && !isKey(before.options.applicationServerKey, applicationServerKey)) await before.unsubscribe();
        const subscription = await ready.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey });
        await register({
          permission: 'granted',
          subscription: subscription.toJSON() as Registration['subscription'],
          pushKey: applicationServerKey,
          pushTrouble: undefined,
        });
        listen();
        state.set({ permission: 'granted', subscribed: true, why: null });
        return state.current;
      } catch (error) {
        return fail((error as Error).message);
      }
    },
    disable: async () => {
      const ready = await navigator.serviceWorker?.getRegistration();
      await (await ready?.pushManager.getSubscription())?.unsubscribe();
      await fail('Push was turned off on the device.');
    },
    onMessage: (take) => {
      listen();
      takers.add(take);
      return () => void takers.delete(take);
    },
    onOpened: (listener) => {
      listen();
      openers.add(listener);
      return () => void openers.delete(listener);
    },
  };
}

const isKey = (key: ArrayBuffer | null, text: string): boolean =>
  key !== null &&
  btoa(String.fromCharCode(...new Uint8Array(key)))
    .replace(/\+/g, '-')
    .replace(/\//g, '_')
    .replace(/=+$/, '') === text;
