/** Asks a STUN or TURN server as a phone would, and says what to do where it refuses. */
import { createSocket } from 'node:dgram';
import { once } from 'node:events';
import { connect, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import type { TurnTrial } from '@orchard/contract';
import type { Credentials } from './credentials.js';
import { lengthOf, readAnswer, requestOf, type Signed, type StunAnswer } from './stun.js';

/** When a request over UDP is sent again (RFC 8489 section 6.2.1), and when its answer counts as missing. */
const [AGAIN_MS, GIVE_UP_MS] = [[500, 1_500], 3_000];
const PORTS = { plain: 3478, tls: 5349 };

type Place = { relays: boolean; tls: boolean; stream: boolean; host: string; port: number };
type Line = { ask: (request: Buffer) => Promise<StunAnswer>; close: () => void };

function placeOf(address: string): Place {
  const [, scheme = '', host = '', port, transport] = /^(\w+):(\[[^\]]+\]|[^:?]+)(?::(\d+))?(?:\?transport=(\w+))?$/.exec(address) ?? [];
  const tls = /s$/i.test(scheme);
  return {
    relays: /^turn/i.test(scheme),
    tls,
    stream: tls || transport?.toLowerCase() === 'tcp',
    host: host.replace(/^\[|\]$/g, ''),
    port: Number(port ?? (tls ? PORTS.tls : PORTS.plain)),
  };
}

export async function tryAddress(address: string, credentials: Credentials | undefined): Promise<TurnTrial> {
  const place = placeOf(address);
  const said = (works: boolean, detail: string, more: Partial<TurnTrial> = {}): TurnTrial => ({
    address,
    works,
    durationMs: null,
    relayed: null,
    ...more,
    detail,
  });
  if (place.relays && !credentials) return said(false, 'No secret is stored, so apps get no credentials. Store the one the server has.');
  const started = performance.now();
  let line: Line | undefined;
  try {
    line = await (place.stream ? openStream(place) : openDatagrams(place));
    const answer = place.relays ? await allocate(line, credentials as Credentials) : await line.ask(requestOf('binding'));
    const durationMs = Math.round((performance.now() - started) * 10) / 10;
    if (!answer.ok) return said(false, refusalOf(answer), { durationMs });
    if (!place.relays) return said(true, `It answers, and sees this service at ${answer.address}.`, { durationMs });
    return said(true, `It relays from ${answer.address}.`, { durationMs, relayed: answer.address });
  } catch (error) {
    return said(false, troubleOf(place, error as NodeJS.ErrnoException));
  } finally {
    line?.close();
  }
}

/** Asks for an address that relays, and gives it back. */
async function allocate(line: Line, credentials: Credentials): Promise<StunAnswer> {
  // The first answer names the realm and a nonce (RFC 8489 section 9.2.3).
  const first = await line.ask(requestOf('allocate'));
  if (first.code !== 401 || first.realm === null || first.nonce === null) return first;
  const signed: Signed = { ...credentials, realm: first.realm, nonce: first.nonce };
  const answer = await line.ask(requestOf('allocate', signed));
  if (answer.ok) await line.ask(requestOf('refresh', signed));
  return answer;
}

function refusalOf({ code, reason }: StunAnswer): string {
  if (code === 401) return 'It does not accept the credentials: its secret is another one than the one stored here, or its clock is wrong.';
  return `It refuses with ${code}${reason ? ` (${reason})` : ''}.`;
}

function troubleOf({ host, port, stream, tls }: Place, { code, message }: NodeJS.ErrnoException): string {
  const way = `port ${port} of ${host} over ${stream ? 'TCP' : 'UDP'}`;
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN') return `There is no host ${host}.`;
  if (code === 'ECONNREFUSED') return `Nothing listens on ${way}.`;
  if (tls && code?.startsWith('ERR_TLS')) return `Its certificate is not accepted: ${message}.`;
  return `No answer from ${way}: ${message}. Look whether the server runs, and whether a firewall lets it through.`;
}

async function openDatagrams({ host, port }: Place): Promise<Line> {
  const socket = createSocket(host.includes(':') ? 'udp6' : 'udp4');
  socket.connect(port, host);
  try {
    await once(socket, 'connect');
  } catch (error) {
    socket.close();
    throw error;
  }
  const ask = (request: Buffer) => {
    const again = AGAIN_MS.map((ms) => setTimeout(() => socket.send(request), ms));
    socket.send(request);
    const answer = answered(request, (take, fail) => {
      socket.on('message', take).on('error', fail);
      return () => socket.off('message', take).off('error', fail);
    });
    return answer.finally(() => again.forEach(clearTimeout));
  };
  return { ask, close: () => socket.close() };
}

async function openStream({ host, port, tls }: Place): Promise<Line> {
  const socket: Socket = tls ? connectTls({ host, port, servername: host }) : connect({ host, port });
  socket.setTimeout(GIVE_UP_MS, () => socket.destroy(new Error(`nothing came in ${GIVE_UP_MS / 1000} s`)));
  try {
    await once(socket, tls ? 'secureConnect' : 'connect');
  } catch (error) {
    socket.destroy();
    throw error;
  }
  const ask = (request: Buffer) => {
    let held: Buffer = Buffer.alloc(0);
    socket.write(request);
    return answered(request, (take, fail) => {
      const onData = (chunk: Buffer) => {
        held = Buffer.concat([held, chunk]);
        if (held.length >= (lengthOf(held) ?? Number.POSITIVE_INFINITY)) take(held);
      };
      const onClose = () => fail(new Error('it closed the connection'));
      socket.on('data', onData).on('error', fail).on('close', onClose);
      return () => socket.off('data', onData).off('error', fail).off('close', onClose);
    });
  };
  return { ask, close: () => socket.destroy() };
}

/** Waits for the answer to a request. @param listen begins to listen, and returns what ends it */
function answered(
  request: Buffer,
  listen: (take: (bytes: Buffer) => void, fail: (error: Error) => void) => () => unknown,
): Promise<StunAnswer> {
  let stop: () => unknown = () => undefined;
  let timer: NodeJS.Timeout | undefined;
  return new Promise<StunAnswer>((resolve, reject) => {
    timer = setTimeout(() => reject(new Error(`nothing came in ${GIVE_UP_MS / 1000} s`)), GIVE_UP_MS);
    stop = listen((bytes) => {
      const answer = readAnswer(request, bytes);
      if (answer) resolve(answer);
    }, reject);
  }).finally(() => {
    clearTimeout(timer);
    stop();
  });
}
