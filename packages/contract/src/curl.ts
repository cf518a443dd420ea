/** The curl command that repeats a recorded request. What was masked is left for the reader to fill in. */
import { shellWord } from './commandLine.js';
import type { RequestDetail } from './operations/telemetry.js';

/** Headers that curl sets itself, or that belong to the former connection. */
const OWN: ReadonlySet<string> = new Set([
  'host',
  'connection',
  'content-length',
  'accept-encoding',
  'user-agent',
  'traceparent',
  'tracestate',
  'transfer-encoding',
  'expect',
  'accept-language',
  'sec-fetch-mode',
]);
const PLACES: Record<string, string> = {
  'orchard-key': '<key>',
  authorization: 'Bearer <token>',
  cookie: '<cookie>',
  'orchard-device-secret': '<device secret>',
  'orchard-csrf': '<csrf>',
};

export function curlOf(
  { direction, method, path, headers, bodies }: Pick<RequestDetail, 'direction' | 'method' | 'path' | 'headers' | 'bodies'>,
  address: string,
): string {
  const sent = Object.entries(headers?.request ?? (direction === 'out' ? {} : { 'orchard-key': '' })).filter(([name]) => !OWN.has(name));
  const lines = [
    `curl -X ${method} ${shellWord(direction === 'out' ? path : `${address}${path}`)}`,
    ...sent.map(([name, value]) => `-H ${shellWord(`${name}: ${PLACES[name] ?? value}`)}`),
    ...(bodies?.request ? [`-d ${shellWord(bodies.request)}`] : []),
  ];
  return lines.join(' \\\n  ');
}
