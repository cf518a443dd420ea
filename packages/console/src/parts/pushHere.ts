/** Push messages to this browser (Push API), for the member who is signed in. */
import { operations } from '@orchard/contract';
import { api } from '../api.js';
import { agentWords } from './format.js';

/** Why this browser cannot be pushed to on this page; null where it can. */
export function pushObstacle(): string | null {
  if (!('serviceWorker' in navigator) || !('PushManager' in globalThis))
    return 'This browser has no push here. It needs https, or localhost.';
  if (Notification.permission === 'denied') return 'Notifications of this page are blocked. Allow them in the settings of the browser.';
  return null;
}

/** Subscribes this browser, and adds it as a way. @throws Error that says what is in the way */
export async function addThisBrowser(): Promise<void> {
  const obstacle = pushObstacle();
  if (obstacle) throw new Error(obstacle);
  if ((await Notification.requestPermission()) !== 'granted') throw new Error('Notifications were not allowed.');
  const { applicationServerKey } = await api.call(operations.memberWays.pushKey, {});
  const subscription = await subscribe(applicationServerKey);
  const { endpoint, keys } = subscription.toJSON() as { endpoint: string; keys: { p256dh: string; auth: string } };
  await api.call(operations.memberWays.add, {
    body: {
      kind: 'browser',
      name: agentWords(navigator.userAgent),
      timeZone: ownTimeZone(),
      subscription: { endpoint, keys },
      pushKey: applicationServerKey,
    },
  });
}

async function subscribe(applicationServerKey: string): Promise<PushSubscription> {
  const { pushManager } = await navigator.serviceWorker.register('/push-worker.js').then(() => navigator.serviceWorker.ready);
  // A subscription of another key would be refused by the push network.
  await (await pushManager.getSubscription())?.unsubscribe();
  return pushManager.subscribe({ userVisibleOnly: true, applicationServerKey });
}

export const ownTimeZone = (): string => new Intl.DateTimeFormat().resolvedOptions().timeZone;
