/** The simulators together: push networks, SMS centre and mail server, and the wall of handsets with its page. */
import { randomBytes } from 'node:crypto';
import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Authority, clientCertificate, makeAuthority, signRequest } from './authority.js';
import { CairnNetwork } from './cairn.js';
import { type Backend, Handset, type HandsetKind, type HandsetState, newHandset, type Networks } from './handset.js';
import { MailServer } from './mailServer.js';
import { PushNetwork, readBody, type StoredSubscription } from './pushNetwork.js';
import { SmsCentre } from './smsCentre.js';
import { TarnNetwork } from './tarn.js';

export type SimulatorSettings = {
  /** Of the wall and web push; the other simulators take the ports after it. 0: any free ones. */
  port: number;
  /** File that keeps handsets and subscriptions over a restart; absent: nothing is kept. */
  stateFile?: string;
  /** Signs the certificates, where the state file holds none; absent: one is made. */
  authority?: Authority;
  /** Where failure notices of mail are sent. */
  bouncesTo?: { host: string; port: number };
};
export type Simulators = {
  address: string;
  network: PushNetwork;
  cairn: CairnNetwork;
  tarn: TarnNetwork;
  sms: SmsCentre;
  mail: MailServer;
  /** Signed the certificates of all of them. */
  authority: Authority;
  /** The handsets on the wall; empty until they are connected to a backend. */
  handsets: () => Handset[];
  /** Puts handsets on the wall (those of the state file come back as they were) and starts them. */
  connect: (backend: Backend, kinds: HandsetKind[]) => Promise<void>;
  stop: () => Promise<void>;
};
type Stored = {
  handsets: HandsetState[];
  subscriptions: StoredSubscription[];
  authority?: Authority;
  tarn?: ReturnType<TarnNetwork['store']>;
  cairn?: ReturnType<CairnNetwork['store']>;
};
/** The accounts of the simulated mail server and SMS centre. */
export const MAIL_ACCOUNT = { user: 'huts', password: 'post-and-parcel' };
export const SMS_ACCOUNT = { systemId: 'quillfell', password: 'ridge42' };

const PAGE = fileURLToPath(new URL('../page', import.meta.url));
const FILES: Record<string, [file: string, type: string]> = {
  '/': ['wall.html', 'text/html; charset=utf-8'],
  '/wall.css': ['wall.css', 'text/css; charset=utf-8'],
  '/wall.js': ['wall.js', 'text/javascript; charset=utf-8'],
};

export async function startSimulators(settings: SimulatorSettings): Promise<Simulators> {
  const stored = readState(settings.stateFile);
  const authority = stored.authority ?? settings.authority ?? makeAuthority();
  let handsets: Handset[] = [];
  let address = '';
  let saving: NodeJS.Timeout | null = null;
  const streams = new Set<ServerResponse>();
  const network = new PushNetwork(() => address, changed);
  network.restore(stored.subscriptions);
  const [cairn, tarn, sms] = [new CairnNetwork(authority), new TarnNetwork(authority), new SmsCentre()];
  const mail = new MailServer(authority, { ...MAIL_ACCOUNT, ...(settings.bouncesTo ? { bouncesTo: settings.bouncesTo } : {}) });
  if (stored.tarn) tarn.restore(stored.tarn);
  if (stored.cairn) cairn.restore(stored.cairn);
  sms.openAccount(SMS_ACCOUNT.systemId, SMS_ACCOUNT.password);
  sms.onText(changed);
  mail.onMail(changed);
  const after = (steps: number) => (settings.port ? settings.port + steps : 0);
  await Promise.all([cairn.start(after(1)), tarn.start(after(2)), sms.start(after(3), after(4)), mail.start(after(5))]);
  const networks: Networks = { web: network, cairn, tarn };

  function changed(): void {
    for (const stream of streams) stream.write(`data: ${JSON.stringify(view(handsets, network, sms, mail))}\n\n`);
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
        authority,
        tarn: tarn.store(),
        cairn: cairn.store(),
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
    if (path === '/desk/cairn-sign') return signAtDesk(request, response);
    if (path.startsWith('/desk/')) return serveDesk(path, new URL(request.url ?? '/', address).searchParams, response);
    const faulty = /^\/faults\/(cairn|tarn|sms|mail)$/.exec(path)?.[1] as 'cairn' | 'tarn' | 'sms' | 'mail' | undefined;
    if (faulty) return serveFaults({ cairn, tarn, sms, mail }[faulty].faults, request, response);
    const action = /^\/wall\/(\d+)\/(\w+)(?:\/(\w+))?$/.exec(path);
    if (request.method === 'POST' && action) return act(request, response, Number(action[1]), action[2] as string, action[3]);
    response.writeHead(404, { 'content-type': 'text/plain' }).end('There is nothing here.\n');
  }
  /** Signs a request for a client certificate: the PEM comes as the body. */
  async function signAtDesk(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const query = new URL(request.url ?? '/', address).searchParams;
    const stage = query.get('stage') === 'live' ? 'live' : 'trial';
    try {
      const pem = signRequest(authority, String((await readBody(request, 20_000)) ?? ''), {
        packageIdentifier: query.get('packageIdentifier') ?? '',
        stage,
      });
      response.writeHead(200, { 'content-type': 'application/x-pem-file', 'cache-control': 'no-store' }).end(pem);
    } catch (error) {
      response.writeHead(400, { 'content-type': 'text/plain' }).end(`${(error as Error).message}\n`);
    }
  }
  /** The desk of the networks, where developers get what their gateways need. */
  function serveDesk(path: string, query: URLSearchParams, response: ServerResponse): void {
    const send = (type: string, body: string | Buffer) =>
      response.writeHead(200, { 'content-type': type, 'cache-control': 'no-store' }).end(body);
    if (path === '/desk/authority.pem') return void send('application/x-pem-file', authority.certificate);
    const said = (name: string) => query.get(name) ?? '';
    const stage = said('stage') === 'live' ? 'live' : 'trial';
    if (path === '/desk/cairn.p12') {
      const inDays = (name: string, otherwise: number) => new Date(Date.now() + Number(query.get(name) ?? otherwise) * 86_400_000);
      const validity = { from: inDays('fromDays', -1), until: inDays('days', 365) };
      const order = {
        packageIdentifier: said('packageIdentifier'),
        stage,
        password: said('password'),
        withoutKey: said('key') === 'no',
        ...validity,
      } as const;
      return void send('application/x-pkcs12', clientCertificate(authority, order));
    }
    if (path === '/desk/phones') {
      const makers: Record<string, () => string> = {
        web: () => network.subscribe(said('key') || null).id,
        cairn: () => cairn.register(said('packageIdentifier'), stage),
        tarn: () => tarn.register(said('project')),
      };
      const make = makers[said('at')];
      changed();
      if (make) return void send('application/json', JSON.stringify(Array.from({ length: Number(said('count')) }, make)));
    }
    if (path === '/desk/mails') return void send('application/json', JSON.stringify(mail.mailsOf(said('to'))));
    if (path === '/desk/texts') return void send('application/json', JSON.stringify(sms.textsOf(said('to'))));
    if (path === '/desk/text') {
      sms.sendFrom(said('from'), said('to'), said('text'));
      return void send('text/plain', 'Sent.\n');
    }
    if (path === '/desk/heron.json') {
      const account = { systemId: said('account') || 'guest', password: randomBytes(4).toString('hex') };
      sms.openAccount(account.systemId, account.password);
      return void send('application/json', JSON.stringify(account));
    }
    if (path === '/desk/tarn.json') {
      const file = tarn.openAccount(said('project'));
      changed();
      return void send('application/json', file);
    }
    if (path === '/desk/tarn-signer.json') {
      const signer = tarn.openSigner(said('project'));
      changed();
      return void send('application/json', JSON.stringify(signer));
    }
    response
      .writeHead(404, { 'content-type': 'text/plain' })
      .end('The desk has authority.pem, cairn.p12, tarn.json, tarn-signer.json, heron.json, phones, text, texts and mails.\n');
  }
  async function serveFaults(faults: CairnNetwork['faults'], request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (request.method === 'PUT') faults.set(JSON.parse((await readBody(request, 10_000))?.toString() || '{"mode":"none"}'));
    response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(faults.current));
  }
  function openStream(request: IncomingMessage, response: ServerResponse): void {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store' });
    response.write(`data: ${JSON.stringify(view(handsets, network, sms, mail))}\n\n`);
    streams.add(response);
    request.once('close', () => streams.delete(response));
  }
  async function act(
    request: IncomingMessage,
    response: ServerResponse,
    index: number,
    action: string,
    key: string | undefined,
  ): Promise<void> {
    const handset = handsets[index];
    const actions: Record<string, (() => unknown) | undefined> = {
      signIn: () => handset?.signIn(),
      signOut: () => handset?.signOut(),
      allow: () => handset?.allow(),
      forbid: () => handset?.forbid(),
      uninstall: () => handset?.uninstall(),
      open: () => handset?.open(key ?? ''),
      text: async () => {
        const last = sms.textsOf(handset?.state.kind.phone ?? '').at(-1);
        sms.sendFrom(
          handset?.state.kind.phone ?? '',
          last?.from ?? 'Quillfell',
          ((await readBody(request, 2000)) ?? Buffer.alloc(0)).toString(),
        );
      },
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
    cairn,
    tarn,
    sms,
    mail,
    authority,
    handsets: () => handsets,
    connect: async (backend, kinds) => {
      handsets = kinds.map((kind) => {
        const known = stored.handsets.find((state) => state.kind.name === kind.name);
        if (known?.subscription && kind.network?.is === 'cairn')
          cairn.register(kind.network.packageIdentifier, kind.network.stage, known.subscription);
        return new Handset(known ? { ...known, kind } : newHandset(kind), backend, networks, changed);
      });
      await Promise.all(handsets.map((handset) => handset.wake()));
    },
    stop: async () => {
      if (saving) clearTimeout(saving);
      save();
      for (const stream of streams) stream.end();
      server.closeAllConnections();
      await Promise.all([new Promise((resolve) => server.close(resolve)), cairn.stop(), tarn.stop(), sms.stop(), mail.stop()]);
    },
  };
}

/** The state that the page shows, without secrets of the handsets. */
function view(handsets: Handset[], network: PushNetwork, sms: SmsCentre, mail: MailServer) {
  return {
    fault: network.fault,
    handsets: handsets.map(({ state: { kind, deviceId, permission, signedInAs, badge, received, registration, subscription } }) => ({
      name: kind.name,
      platform: kind.platform,
      network: kind.network?.is ?? 'web push',
      model: kind.model,
      os: kind.os,
      locale: kind.locale,
      timeZone: kind.timeZone,
      person: kind.person.name,
      phone: kind.phone ?? null,
      texts: kind.phone ? sms.textsOf(kind.phone).slice(-5) : [],
      mails: mail
        .mailsOf(kind.person.email)
        .slice(-3)
        .map(({ subject, at }) => ({ subject, at })),
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
