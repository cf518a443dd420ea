/**
 * The service worker that apps take in: shows what is pushed, unless the app is open and shows it itself, and tells the app
 * what was opened. An app's own worker takes it in by `importScripts('{address}/client/orchard-worker.js')`.
 */
type Message = {
  notification?: string;
  title?: string;
  body?: string;
  link?: string;
  image?: string;
  badge?: number;
  buttons?: { id: string; title: string }[];
  [member: string]: unknown;
};
type Target = { postMessage: (data: unknown, transfer?: Transferable[]) => void; focus?: () => Promise<unknown>; visibilityState?: string };
type Scope = {
  addEventListener: (type: string, heard: (event: never) => void) => void;
  registration: { showNotification: (title: string, options: object) => Promise<void> };
  clients: { matchAll: (how: object) => Promise<Target[]>; openWindow: (address: string) => Promise<unknown> };
};
const worker = globalThis as unknown as Scope;
/** How long an open app has to say that it shows a message itself. */
const ANSWER_MS = 1_000;

const pages = () => worker.clients.matchAll({ type: 'window', includeUncontrolled: true });

/** Whether a page that is open shows it. */
async function isShownByApp(message: Message): Promise<boolean> {
  const open = (await pages()).filter(({ visibilityState }) => visibilityState === 'visible');
  const asked = open.map(
    (page) =>
      new Promise<boolean>((resolve) => {
        const { port1, port2 } = new MessageChannel();
        port1.onmessage = ({ data }) => resolve(Boolean(data?.shown));
        setTimeout(() => resolve(false), ANSWER_MS);
        page.postMessage({ orchard: 'pushed', message }, [port2]);
      }),
  );
  return (await Promise.all(asked)).some(Boolean);
}

async function show(message: Message): Promise<void> {
  if (await isShownByApp(message)) return;
  const { title = '', body, image, buttons = [], notification } = message;
  const actions = buttons.map(({ id, title: words }) => ({ action: id, title: words }));
  await worker.registration.showNotification(title, {
    body,
    image,
    data: message,
    actions,
    ...(notification ? { tag: notification } : {}),
  });
}

async function opened(message: Message, button: string): Promise<void> {
  const told = { orchard: 'opened', message: { ...message, ...(button ? { button } : {}) } };
  const [page] = await pages();
  if (page) {
    page.postMessage(told);
    await page.focus?.();
  } else await worker.clients.openWindow(message.link ?? '/');
}

worker.addEventListener(
  'push',
  (event: { data?: { json: () => Message; text: () => string }; waitUntil: (work: Promise<unknown>) => void }) => {
    let message: Message;
    try {
      message = event.data?.json() ?? {};
    } catch {
      message = { title: event.data?.text() ?? '' };
    }
    event.waitUntil(show(message));
  },
);
worker.addEventListener(
  'notificationclick',
  (event: { action: string; notification: { data: Message; close: () => void }; waitUntil: (work: Promise<unknown>) => void }) => {
    event.notification.close();
    event.waitUntil(opened(event.notification.data, event.action));
  },
);

export {};
