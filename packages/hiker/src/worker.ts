/** The service worker: the library's part for push, and the app's own files for when there is no signal. */
import '@orchard/client/worker';

type Worker = {
  addEventListener: (type: string, heard: (event: never) => void) => void;
  skipWaiting: () => Promise<void>;
  clients: { claim: () => Promise<void> };
};
const worker = globalThis as unknown as Worker;
const CACHE = 'hiker-1';
const SHELL = ['/', '/orchard-client.json', '/manifest.webmanifest', '/icon.svg'];
/** Where the worker notes which assets the last two versions consist of. */
const VERSIONS = '/kept-versions';
/** How a build names an asset: by its hash. A part that is loaded on demand is named in the script that loads it. */
const ASSET = /["'`](?:\/assets\/|\.\/)([\w-]+-[\w-]{8}\.(?:js|css))["'`]/g;

/** The page and every asset of its version, those that it has not asked for yet too. */
async function fill(): Promise<void> {
  const cache = await caches.open(CACHE);
  await cache.addAll(SHELL.map((path) => new Request(path, { cache: 'reload' })));
  const found = new Set<string>();
  const follow = async (path: string): Promise<void> => {
    const text = (await (await cache.match(path))?.text()) ?? '';
    const named = [...text.matchAll(ASSET)].map(([, name]) => `/assets/${name}`).filter((asset) => !found.has(asset));
    for (const asset of named) found.add(asset);
    await cache.addAll(named);
    for (const asset of named) await follow(asset);
  };
  await follow('/');
  const [last = []]: string[][] = (await (await cache.match(VERSIONS))?.json()) ?? [];
  await cache.put(VERSIONS, Response.json([[...found], last]));
}

/** Tabs that are still open run the version before: its assets stay until the next one. */
async function forgetOlder(): Promise<void> {
  const cache = await caches.open(CACHE);
  const kept = new Set((((await (await cache.match(VERSIONS))?.json()) ?? []) as string[][]).flat());
  const paths = (await cache.keys()).map(({ url }) => new URL(url).pathname);
  await Promise.all(paths.filter((path) => path.startsWith('/assets/') && !kept.has(path)).map((path) => cache.delete(path)));
}

async function answer(request: Request): Promise<Response> {
  const cache = await caches.open(CACHE);
  const { pathname } = new URL(request.url);
  // Files of a build have its hash in their names, so what is kept is right.
  const kept = pathname.startsWith('/assets/') ? await cache.match(request) : undefined;
  if (kept) return kept;
  try {
    const response = await fetch(request);
    if (response.ok) await cache.put(request, response.clone());
    return response;
  } catch (error) {
    const older = (await cache.match(request)) ?? (request.mode === 'navigate' ? await cache.match('/') : undefined);
    if (older) return older;
    throw error;
  }
}

worker.addEventListener('install', (event: ExtendableEvent) => event.waitUntil(fill().then(() => worker.skipWaiting())));
worker.addEventListener('activate', (event: ExtendableEvent) => event.waitUntil(forgetOlder().then(() => worker.clients.claim())));
worker.addEventListener('fetch', (event: ExtendableEvent & { request: Request; respondWith: (response: Promise<Response>) => void }) => {
  const { request } = event;
  if (request.method === 'GET' && new URL(request.url).origin === location.origin) event.respondWith(answer(request));
});
type ExtendableEvent = { waitUntil: (work: Promise<unknown>) => void };
