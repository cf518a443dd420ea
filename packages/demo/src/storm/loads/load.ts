/**
 * What goes on while the storm blows. Each load keeps a journal of what was acknowledged, and says in the end what of it is not
 * so: lost, done twice, out of order, missing or miscounted.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { createHttpClient, type HttpClient, type RawBody } from '@orchard/contract';

export type Verdict = { load: string; done: number; unit: string; wrong: string[]; note?: string };
/** `prepare`: before anything goes wrong. */
export type Load = { prepare?: () => Promise<void>; begin: (until: AbortSignal) => Promise<void>; verify: () => Promise<Verdict> };
export type Place = {
  address: string;
  owner: HttpClient;
  params: { app: string; environment: string };
  clientKey: string;
  serverKey: string;
};

export const AGAIN_MS = 100;
export const TIMEOUT_MS = 20_000;
export type Answer = { status: number; body: unknown };
/** The latest answer to each kind of call that is neither one of the service's own nor says to try again. */
export const unexpected = new Map<string, string>();

/** @returns null where no answer was heard, or one that says to try again */
export async function ask(
  place: Place,
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Answer | null> {
  try {
    const raw = body instanceof Uint8Array;
    const reply = await fetch(`${place.address}/app/v1${path}`, {
      method,
      signal: AbortSignal.timeout(TIMEOUT_MS),
      headers: {
        'orchard-key': place.serverKey,
        ...(body === undefined ? {} : { 'content-type': raw ? 'application/octet-stream' : 'application/json' }),
        ...headers,
      },
      ...(body === undefined ? {} : { body: (raw ? body : JSON.stringify(body)) as RawBody }),
    });
    const text = await reply.text();
    if (reply.status >= 500 || reply.status === 429) {
      if (reply.status !== 503)
        unexpected.set(`${method} ${path.split('/').slice(0, 3).join('/')}`, `${reply.status} ${text.slice(0, 200)}`);
      return null;
    }
    return { status: reply.status, body: text ? JSON.parse(text) : null };
  } catch {
    return null;
  }
}

/** Until it is answered. */
export async function patiently(
  place: Place,
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Answer> {
  for (;;) {
    const answer = await ask(place, method, path, body, headers);
    if (answer) return answer;
    await sleep(AGAIN_MS);
  }
}

/** The same for calls of a member. */
export async function untilAnswered<T>(call: () => Promise<T>): Promise<T> {
  for (;;) {
    try {
      return await call();
    } catch (error) {
      const { status } = error as { status?: number };
      if (status !== undefined && status < 500 && status !== 429) throw error;
      await sleep(AGAIN_MS * 5);
    }
  }
}

export const lanes = (count: number, work: (lane: number) => Promise<void>): Promise<void> =>
  Promise.all(Array.from({ length: count }, (_, lane) => work(lane))).then(() => undefined);

export const memberAt = (address: string, token: string): HttpClient =>
  createHttpClient({ address, headers: () => ({ authorization: `Bearer ${token}` }) });
