/** Recorded requests as HAR 1.2 (w3c.github.io/web-performance/specs/HAR). What was not recorded is -1 or empty, as the format has it. */

type Pair = { name: string; value: string };
/** What a HAR entry is made from. */
export type Recorded = {
  id: string;
  at: string;
  method: string;
  /** Address with the query. */
  url: string;
  status: number;
  problem: string | null;
  durationMs: number;
  bytesIn: number;
  bytesOut: number;
  headers: { request: Record<string, string>; response: Record<string, string> } | null;
  bodies: { request: string | null; response: string | null } | null;
};

const pairs = (headers: Record<string, string> | undefined): Pair[] =>
  Object.entries(headers ?? {}).map(([name, value]) => ({ name, value }));

/** Section "log". */
export function writeHar(requests: readonly Recorded[], version: string): object {
  return {
    log: {
      version: '1.2',
      creator: { name: 'Vivid Orchard', version },
      entries: requests.map(entry),
    },
  };
}

/** Section "entries". */
function entry({ id, at, method, url, status, problem, durationMs, bytesIn, bytesOut, headers, bodies }: Recorded): object {
  const [path = '', query = ''] = url.split('?');
  const type = (side: 'request' | 'response') => headers?.[side]['content-type'] ?? 'application/json';
  return {
    startedDateTime: at,
    time: durationMs,
    request: {
      method,
      url: query ? `${path}?${query}` : path,
      httpVersion: 'HTTP/1.1',
      cookies: [],
      headers: pairs(headers?.request),
      queryString: [...new URLSearchParams(query)].map(([name, value]) => ({ name, value })),
      ...(bodies?.request ? { postData: { mimeType: type('request'), text: bodies.request } } : {}),
      headersSize: -1,
      bodySize: bytesIn,
    },
    response: {
      status,
      statusText: problem ?? '',
      httpVersion: 'HTTP/1.1',
      cookies: [],
      headers: pairs(headers?.response),
      content: { size: bytesOut, mimeType: type('response'), ...(bodies?.response ? { text: bodies.response } : {}) },
      redirectURL: '',
      headersSize: -1,
      bodySize: bytesOut,
    },
    cache: {},
    // Section "timings": -1 for what does not apply; the service knows only how long it took itself.
    timings: { blocked: -1, dns: -1, connect: -1, ssl: -1, send: 0, wait: durationMs, receive: 0 },
    comment: id,
  };
}
