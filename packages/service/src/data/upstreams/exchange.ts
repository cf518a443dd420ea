/** One call of an upstream, without retries: sent, received whole, and unpacked, within its limits. */
import { brotliDecompressSync, gunzipSync, inflateSync } from 'node:zlib';
import type { Dispatcher } from 'undici';

export type Sent = { method: string; url: URL; headers: Record<string, string>; body: string | null };
export type Received = { status: number; headers: Record<string, string>; body: Buffer };
export type Trouble = 'unreachable' | 'slow' | 'too-large' | 'certificate' | 'private' | 'broken' | 'elsewhere';

/** Why a call got no answer, in words for the team; they name no credential. */
export class ExchangeFailed extends Error {
  constructor(
    readonly trouble: Trouble,
    words: string,
  ) {
    super(words);
  }
}

const MOST_REDIRECTS = 3;

/** Follows redirects within the origin: credentials go nowhere else. @throws {ExchangeFailed} */
export async function exchange(agent: Dispatcher, sent: Sent, limits: Limits): Promise<Received> {
  // Not AbortSignal.timeout: its timer would stay until its time, long after most answers.
  const controller = new AbortController();
  const late = setTimeout(() => controller.abort(new DOMException('The time is over.', 'TimeoutError')), Math.max(1, limits.withinMs));
  try {
    return await followed(agent, sent, controller.signal, limits);
  } finally {
    clearTimeout(late);
  }
}

type Limits = { withinMs: number; mostBytes: number };

async function followed(agent: Dispatcher, sent: Sent, signal: AbortSignal, limits: Limits): Promise<Received> {
  let asked = sent;
  for (let hops = 0; ; hops++) {
    const received = await once(agent, asked, signal, limits);
    const to = received.headers.location;
    if (received.status < 300 || received.status === 304 || received.status >= 400 || !to) return received;
    const url = URL.canParse(to, asked.url.href) ? new URL(to, asked.url) : null;
    if (!url || url.origin !== asked.url.origin)
      throw new ExchangeFailed('elsewhere', `It redirects to ${url?.origin ?? 'no address'}, which is another system and not followed.`);
    if (hops >= MOST_REDIRECTS) throw new ExchangeFailed('elsewhere', `It redirects more than ${MOST_REDIRECTS} times.`);
    // RFC 9110 section 15.4.4: 303 is followed by GET; others repeat the call as it was.
    asked = received.status === 303 ? { ...asked, method: 'GET', body: null, url } : { ...asked, url };
  }
}

async function once(
  agent: Dispatcher,
  { method, url, headers, body }: Sent,
  signal: AbortSignal,
  { mostBytes, withinMs }: { mostBytes: number; withinMs: number },
) {
  try {
    const reply = await agent.request({
      origin: url.origin,
      path: url.pathname + url.search,
      method: method as never,
      headers,
      body,
      signal,
    });
    const packed = Buffer.from(await reply.body.arrayBuffer());
    const given = flat(reply.headers);
    const whole = unpacked(packed, given, mostBytes);
    demandJson(whole, given);
    return { status: reply.statusCode, headers: given, body: whole };
  } catch (error) {
    throw error instanceof ExchangeFailed
      ? error
      : failureOf(error as NodeJS.ErrnoException & { cause?: NodeJS.ErrnoException }, url, mostBytes, withinMs);
  }
}

const flat = (headers: Record<string, string | string[] | undefined>): Record<string, string> =>
  Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : (value ?? '')]));

/** A small answer can unpack to a very large one: the limit is of what comes out. */
function unpacked(packed: Buffer, headers: Record<string, string>, mostBytes: number): Buffer {
  const coding = headers['content-encoding']?.trim().toLowerCase();
  if (!coding || coding === 'identity' || packed.length === 0) return packed;
  const unpack = { gzip: gunzipSync, 'x-gzip': gunzipSync, deflate: inflateSync, br: brotliDecompressSync }[coding];
  if (!unpack) throw new ExchangeFailed('broken', `Its answer is coded as ${coding.slice(0, 40)}, which nobody asked for.`);
  delete headers['content-encoding'];
  try {
    return unpack(packed, { maxOutputLength: mostBytes });
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ERR_BUFFER_TOO_LARGE') throw tooLarge(mostBytes);
    throw new ExchangeFailed('broken', `Its answer says it is ${coding}, and cannot be unpacked.`);
  }
}

/** One that broke off can look whole, where its length was a lie. */
function demandJson(body: Buffer, { 'content-type': type }: Record<string, string>): void {
  if (body.length === 0 || !/^application\/(.+\+)?json\b/i.test(type ?? '')) return;
  try {
    JSON.parse(body.toString());
  } catch {
    throw new ExchangeFailed('broken', 'Its answer says it is JSON, and is not, or not all of it.');
  }
}

const tooLarge = (mostBytes: number) =>
  new ExchangeFailed('too-large', `Its answer has more than ${mostBytes.toLocaleString('en')} bytes.`);

const CERTIFICATES: Record<string, string> = {
  CERT_HAS_EXPIRED: 'Its certificate has expired.',
  CERT_NOT_YET_VALID: 'Its certificate is not valid yet.',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'Its certificate is signed by itself. Add it under `trust`, if that is meant.',
  SELF_SIGNED_CERT_IN_CHAIN: 'Its certificate comes from an authority that is not known. Add that under `trust`.',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'Its certificate comes from an authority that is not known. Add that under `trust`.',
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: 'Its certificate comes from an authority that is not known. Add that under `trust`.',
  ERR_TLS_CERT_ALTNAME_INVALID: 'Its certificate is for another host.',
};

function failureOf(
  error: NodeJS.ErrnoException & { cause?: NodeJS.ErrnoException },
  url: URL,
  mostBytes: number,
  withinMs: number,
): ExchangeFailed {
  const code = error.code ?? error.cause?.code ?? '';
  if (CERTIFICATES[code]) return new ExchangeFailed('certificate', CERTIFICATES[code]);
  if (error.name === 'TimeoutError' || /TIMEOUT/.test(code))
    return new ExchangeFailed(
      'slow',
      `${url.host} did not finish its answer within ${(Math.round(withinMs / 100) / 10).toLocaleString('en')} s.`,
    );
  switch (code) {
    case 'PRIVATE_ADDRESS':
      return new ExchangeFailed('private', `${error.message}: it is not called. The settings of the installation can list its origin.`);
    case 'UND_ERR_RES_EXCEEDED_MAX_SIZE':
      return tooLarge(mostBytes);
    case 'ENOTFOUND':
    case 'EAI_AGAIN':
      return new ExchangeFailed('unreachable', `The name ${url.hostname} is not known.`);
    case 'ECONNREFUSED':
      return new ExchangeFailed('unreachable', `Nobody listens at ${url.host}.`);
    default:
      return new ExchangeFailed('broken', `${url.host} broke off: ${error.message}.`);
  }
}
