/** W3C Trace Context, the `traceparent` header. */

export type TraceContext = { traceId: string; spanId: string; sampled: boolean };

/**
 * Reads a `traceparent` (W3C Trace Context section 3.2). Null when it is malformed: section 3.2.2.1 has the
 * receiver ignore it then and start a new trace. Later versions are read by their first four parts.
 */
export function readTraceparent(header: string | undefined): TraceContext | null {
  const match = /^([0-9a-f]{2})-([0-9a-f]{32})-([0-9a-f]{16})-([0-9a-f]{2})(-.*)?$/.exec(header?.trim() ?? '');
  if (!match) return null;
  const [, version, traceId, spanId, flags, rest] = match as unknown as [string, string, string, string, string, string?];
  if (version === 'ff' || (version === '00' && rest)) return null;
  if (/^0+$/.test(traceId) || /^0+$/.test(spanId)) return null;
  return { traceId, spanId, sampled: (Number.parseInt(flags, 16) & 1) === 1 };
}

/** Writes a version 00 `traceparent`. */
export function writeTraceparent(context: TraceContext): string {
  return `00-${context.traceId}-${context.spanId}-${context.sampled ? '01' : '00'}`;
}
