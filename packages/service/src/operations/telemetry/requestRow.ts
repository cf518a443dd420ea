/** One finished call as a row of `_requests`: what is kept of it, with secrets masked. */
import type { AnyOperation, Recording } from '@orchard/contract';
import { isPlainObject, maskSecrets, packTimeline, type Span, statementWords, versionOf } from '@orchard/core';
import { z } from 'zod';
import type { Call } from '../../platform/call.js';
import type { RequestValues } from './recordStore.js';

/** Most of a body that is kept, in characters. */
const BODY = 8_000;
const HEADER = 400;
/** Headers that carry a credential, whatever their form. */
const CREDENTIALS = new Set([
  'authorization',
  'cookie',
  'set-cookie',
  'orchard-key',
  'orchard-device-secret',
  'orchard-csrf',
  'proxy-authorization',
]);

const cut = (text: string | undefined, most: number): string | null =>
  text === undefined ? null : text.length > most ? text.slice(0, most) : text;

const masked = (text: string | undefined, most: number): string | null => cut(text && maskSecrets(text), most);

/** What a call was about, where its route leaves that open: "all records" as one line would hide the slow collection. */
export function targetOf({ params, target }: Pick<Call, 'params' | 'target'>, status: number): string {
  const { collection, channel, upstream } = (params ?? {}) as { collection?: string; channel?: string; upstream?: string };
  // A name that does not exist is the caller's invention.
  return status === 404 ? '' : (target ?? collection ?? channel ?? upstream ?? '').slice(0, 64);
}

/** As the call names it; nothing here proves that it is that device. */
export const deviceOf = ({ headers }: Pick<Call, 'headers'>): string | null => masked(headers['orchard-device'] as string | undefined, 64);
/** Of the app. */
export const versionOfCall = ({ headers }: Pick<Call, 'headers'>): string | null => versionOf(headers['user-agent'] ?? '');

export type Ended = { client: string; status: number; durationUs: number; bytesOut: number; keptOf: number; settings: Recording };

/** In the order of REQUEST_COLUMNS. */
export function requestRow(call: Call, { client, status, durationUs, bytesOut, keptOf, settings }: Ended): RequestValues {
  const { method, path: route } = call.operation;
  const { headers } = call;
  return [
    call.id,
    new Date(call.at),
    method,
    route,
    cut(maskSecrets(call.request.originalUrl), 500),
    status,
    Math.round(durationUs),
    Math.round(call.cost.databaseUs),
    call.cost.statements,
    client || null,
    call.holder?.key.id ?? null,
    call.user?.id ?? cut(call.member?.id, 64),
    deviceOf(call),
    call.trace.traceId,
    call.trace.spanId,
    call.parentSpan,
    call.problem?.problem ?? null,
    masked(call.problem?.extras.teamDetail ?? call.problem?.detail, 2000),
    masked(headers.origin, 253),
    masked(headers['user-agent'], 300),
    Number(headers['content-length'] ?? 0),
    bytesOut,
    targetOf(call, status) || null,
    versionOfCall(call),
    keptOf,
    'in',
    settings.headers ? packTimeline(timelineOf(call)) : null,
    settings.headers ? JSON.stringify({ request: keptHeaders(headers), response: keptHeaders(call.response?.getHeaders?.() ?? {}) }) : null,
    settings.bodies && status >= 400 ? JSON.stringify(bodiesOf(call, settings.maskedFields)) : null,
  ];
}

/** Its steps and statements in order of time. */
export function timelineOf({ spans, cost, startedNs }: Call): Span[] {
  const statements = (cost.sent ?? []).map(({ sql, startedNs: from, tookNs }) => ({
    step: 'statement',
    startUs: Number(from - startedNs) / 1000,
    durationUs: Number(tookNs) / 1000,
    detail: statementWords(sql),
  }));
  return [...spans, ...statements].sort((a, b) => a.startUs - b.startUs || b.durationUs - a.durationUs);
}

function keptHeaders(headers: Record<string, unknown>): Record<string, string> {
  const kept: Record<string, string> = {};
  for (const [name, value] of Object.entries(headers)) {
    if (value === undefined) continue;
    kept[name] = CREDENTIALS.has(name) ? '…' : (masked(String(value), HEADER) as string);
  }
  return kept;
}

function bodiesOf(call: Call, maskedFields: readonly string[]) {
  const request: unknown = takesSecrets(call.operation) ? null : call.request.body;
  const response = call.problem?.toDocument(call.id);
  const text = (body: unknown) =>
    isPlainObject(body as never) || Array.isArray(body) ? cut(maskSecrets(JSON.stringify(withoutFields(body, maskedFields))), BODY) : null;
  return { request: text(request), response: text(response) };
}

const SECRET = /password|secret|token|\bcode\b/i;
const known = new WeakMap<AnyOperation, boolean>();

/**
 * Whether a secret belongs into the body of an operation. Such a body is never kept: a misspelt field would carry the secret
 * under a name that nothing masks.
 */
function takesSecrets(operation: AnyOperation): boolean {
  let takes = known.get(operation);
  if (takes === undefined) {
    takes =
      operation.body !== undefined && SECRET.test(JSON.stringify(z.toJSONSchema(operation.body, { unrepresentable: 'any', io: 'input' })));
    known.set(operation, takes);
  }
  return takes;
}

/** The same document with the values of these fields replaced, at any depth. */
function withoutFields(value: unknown, names: readonly string[]): unknown {
  if (names.length === 0 || typeof value !== 'object' || value === null) return value;
  if (Array.isArray(value)) return value.map((one) => withoutFields(one, names));
  return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, names.includes(name) ? '…' : withoutFields(one, names)]));
}
