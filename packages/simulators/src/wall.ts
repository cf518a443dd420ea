/** The simulators as one server: the push network, and the wall of handsets with its page. */
import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Backend, Handset, type HandsetKind, type HandsetState, newHandset } from './handset.js';
import { PushNetwork, type StoredSubscription } from './pushNetwork.js';

export type SimulatorSettings = {
  port: number;
  /** File that keeps handsets and subscriptions over a restart; absent: nothing is kept. */
  stateFile?: string;
};
export type Simulators = {
  address: string;
  network: PushNetwork;
  /** The handsets on the wall; empty until they are connected to a backend. */
  handsets: () => Handset[];
  /** Puts handsets on the wall (those of the state file come back as they were) and wakes them. */
  connect: (backend: Backend, kinds: HandsetKind[]) => Promise<void>;
  stop: () => Promise<void>;
};
type Stored = { handsets: HandsetState[]; subscriptions: StoredSubscription[] };

const PAGE = fileURLToPath(new URL('../page', import.meta.url));
const FILES: Record<string, [file: string, type: string]> = {
  '/': ['wall.html', 'text/html; charset=utf-8'],
  '/wall.css': ['wall.css', 'text/css; charset=utf-8'],
  '/wall.js': ['wall.js', 'text/javascript; charset=utf-8'],
};

export async function startSimulators(settings: SimulatorSettings): Promise<Simulators> {
  const stored = readState(settings.stateFile);
  let handsets: Handset[] = [];
  let address = '';
  let saving: NodeJS.Timeout | null = null;
  const streams = new Set<ServerResponse>();
  const network = new PushNetwork(() => address, changed);
  network.restore(stored.subscriptions);

  function changed(): void {
    for (const stream of streams) stream.write(`data: ${JSON.stringify(view(handsets, network))}\n\n`);
    if (settings.stateFile) saving ??= setTimeout(save, 200);
  }
  function save(): void {
    saving = null;
    if (!settings.stateFile) return;
    mkdirSync(dirname(settings.stateFile), { recursive: true });
    writeFileSync(
      `${settings.stateFile}.new`,
      JSON.stringify({
        handsets: handsets.length ? handsets.map(({ state }) => state) : stored.handsets,
        subscriptions: network.store(),
      } satisfies Stored),
      { mode: 0o600 },
    );
    renameSync(`${settings.stateFile}.new`, settings.stateFile);
  }
  async function answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (await network.handle(request, response)) return;
    const path = request.url?.split('?')[0] ?? '/';
    const file = FILES[path];
    if (request.method === 'GET' && file)
      return void response.writeHead(200, { 'content-type': file[1], 'cache-control': 'no-store' }).end(readFileSync(join(PAGE, file[0])));
    if (path === '/wall/events') return openStream(request, response);
    const action = /^\/wall\/(\d+)\/(\w+)(?:\/(\w+))?$/.exec(path);
    if (request.method === 'POST' && action) return act(response, Number(action[1]), action[2] as string, action[3]);
    response.writeHead(404, { 'content-type': 'text/plain' }).end('There is nothing here.\n');
  }
  function openStream(request: IncomingMessage, response: ServerResponse): void {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store' });
    response.write(`data: ${JSON.stringify(view(handsets, network))}\n\n`);
    streams.add(response);
    request.once('close', () => streams.delete(response));
  }
  async function act(response: ServerResponse, index: number, action: string, key: string | undefined): Promise<void> {
    const handset = handsets[index];
    const actions: Record<string, (() => unknown) | undefined> = {
      signIn: () => handset?.signIn(),
      signOut: () => handset?.signOut(),
      allow: () => handset?.allow(),
      forbid: () => handset?.forbid(),
      uninstall: () => handset?.uninstall(),
      open: () => handset?.open(key ?? ''),
    };
    try {
      await actions[action]?.();
      response.writeHead(handset && actions[action] ? 204 : 404).end();
    } catch (error) {
      response.writeHead(502, { 'content-type': 'text/plain' }).end((error as Error).message);
    }
  }

  const server = createServer((request, response) => {
    answer(request, response).catch(() => (response.headersSent ? response.destroy() : response.writeHead(400).end()));
  });
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(settings.port, '127.0.0.1', resolve));
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;

  return {
    address,
    network,
    handsets: () => handsets,
    connect: async (backend, kinds) => {
      handsets = kinds.map(
        (kind) =>
          new Handset(stored.handsets.find((state) => state.kind.name === kind.name) ?? newHandset(kind), backend, network, changed),
      );
      await Promise.all(handsets.map((handset) => handset.wake()));
    },
    stop: async () => {
      if (saving) clearTimeout(saving);
      save();
      for (const stream of streams) stream.end();
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}

/** What the page shows; no secrets of the handsets. */
function view(handsets: Handset[], network: PushNetwork) {
  return {
    fault: network.fault,
    handsets: handsets.map(({ state: { kind, deviceId, permission, signedInAs, badge, received, registration, subscription } }) => ({
      name: kind.name,
      platform: kind.platform,
      model: kind.model,
      os: kind.os,
      locale: kind.locale,
      timeZone: kind.timeZone,
      person: kind.person.name,
      deviceId,
      permission,
      signedInAs,
      badge,
      received,
      registration,
      subscribed: subscription !== null,
    })),
  };
}

function readState(file: string | undefined): Stored {
  try {
    return JSON.parse(readFileSync(file ?? '', 'utf8'));
  } catch {
    return { handsets: [], subscriptions: [] };
  }
}
