/**
 * Traces, logs and metrics as OTLP in its JSON form (opentelemetry.io, OTLP/JSON Protobuf encoding): ids are hexadecimal, 64-bit
 * integers are strings.
 */
import type { LogLevel } from './logLevels.js';
import type { Span } from './timeline.js';

type Value = string | number | boolean;
export type Attributes = Record<string, Value | null | undefined>;

const typedValue = (value: Value): object =>
  typeof value === 'string'
    ? { stringValue: value }
    : typeof value === 'boolean'
      ? { boolValue: value }
      : Number.isInteger(value)
        ? { intValue: String(value) }
        : { doubleValue: value };

/** Message KeyValue; what is not known is left out. */
export const attributesOf = (attributes: Attributes): object[] =>
  Object.entries(attributes).flatMap(([key, value]) => (value === null || value === undefined ? [] : [{ key, value: typedValue(value) }]));

/** Milliseconds since 1970 and microseconds after that, as nanoseconds. */
const nanos = (atMs: number, afterUs = 0): string => String(BigInt(Math.round(atMs)) * 1_000_000n + BigInt(Math.round(afterUs * 1000)));

export type RecordedCall = {
  /** Milliseconds since 1970. */
  at: number;
  durationUs: number;
  traceId: string;
  spanId: string;
  parentSpanId: string | null;
  name: string;
  failed: boolean;
  attributes: Attributes;
  steps: readonly Span[];
};

/** Section "Span": SPAN_KIND_INTERNAL and SPAN_KIND_SERVER, STATUS_CODE_ERROR. */
const [INTERNAL, SERVER, ERROR] = [1, 2, 2];

/** A call as spans: itself, and its steps as children. @param newSpanId returns eight random bytes in hexadecimal */
export function spansOf(call: RecordedCall, newSpanId: () => string): object[] {
  const { at, durationUs, traceId, spanId, parentSpanId, name, failed, attributes, steps } = call;
  const self = {
    traceId,
    spanId,
    ...(parentSpanId ? { parentSpanId } : {}),
    name,
    kind: SERVER,
    startTimeUnixNano: nanos(at),
    endTimeUnixNano: nanos(at, durationUs),
    attributes: attributesOf(attributes),
    status: failed ? { code: ERROR } : {},
  };
  const children = steps.map(({ step, startUs, durationUs: took, detail }) => ({
    traceId,
    spanId: newSpanId(),
    parentSpanId: spanId,
    name: detail ?? step,
    kind: INTERNAL,
    startTimeUnixNano: nanos(at, startUs),
    endTimeUnixNano: nanos(at, startUs + took),
    attributes: attributesOf({ 'orchard.step': step }),
    status: {},
  }));
  return [self, ...children];
}

/** Section "Severity": DEBUG, INFO, WARN and ERROR. */
const SEVERITY: Record<LogLevel, number> = { debug: 5, info: 9, warning: 13, error: 17 };

export type RecordedEntry = { at: number; level: LogLevel; text: string; trace: string | null; attributes: Attributes };

/** Section "LogRecord". */
export const logRecordOf = ({ at, level, text, trace, attributes }: RecordedEntry): object => ({
  timeUnixNano: nanos(at),
  severityNumber: SEVERITY[level],
  severityText: level,
  body: { stringValue: text },
  attributes: attributesOf(attributes),
  ...(trace ? { traceId: trace } : {}),
});

export type Point = { name: string; unit: string; attributes: Attributes; count: number; from: number; until: number };

/** Section "Sum": counts since the last export, AGGREGATION_TEMPORALITY_DELTA. */
export const metricsOf = (points: readonly Point[]): object[] => {
  const names = [...new Set(points.map(({ name }) => name))];
  return names.map((name) => {
    const own = points.filter((one) => one.name === name);
    return {
      name,
      unit: own[0]?.unit ?? '1',
      sum: {
        aggregationTemporality: 1,
        isMonotonic: true,
        dataPoints: own.map(({ attributes, count, from, until }) => ({
          attributes: attributesOf(attributes),
          startTimeUnixNano: nanos(from),
          timeUnixNano: nanos(until),
          asInt: String(count),
        })),
      },
    };
  });
};

/** The body of one export: `resourceSpans`, `resourceLogs` or `resourceMetrics`. */
export function exportOf(kind: 'traces' | 'logs' | 'metrics', resource: Attributes, items: readonly object[]): object {
  const scope = { name: 'vivid-orchard' };
  const of = { attributes: attributesOf(resource) };
  if (kind === 'traces') return { resourceSpans: [{ resource: of, scopeSpans: [{ scope, spans: items }] }] };
  if (kind === 'logs') return { resourceLogs: [{ resource: of, scopeLogs: [{ scope, logRecords: items }] }] };
  return { resourceMetrics: [{ resource: of, scopeMetrics: [{ scope, metrics: items }] }] };
}
