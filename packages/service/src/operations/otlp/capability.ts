import { logRecordOf, maskSecrets, spansOf } from '@orchard/core';
import type { Capability } from '../../platform/capability.js';
import type { Call } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { timelineOf } from '../telemetry/requestRow.js';
import { OtlpExporter } from './exporter.js';

/** With `ORCHARD_OTLP_URL` set, what is recorded is sent there, too. */
export function otlp(platform: Platform): Capability {
  const { config, ports, instance, now, log, random } = platform;
  if (!config.otlpUrl) return { name: 'otlp' };
  const exporter = new OtlpExporter(config.otlpUrl, { 'service.name': 'vivid-orchard', 'service.instance.id': instance }, now, log);
  const newSpanId = () => random(8).toString('hex');
  const { recordCall, logEntry } = ports;
  ports.recordCall = (call, status, durationUs, bytesOut) => {
    recordCall(call, status, durationUs, bytesOut);
    exportCall(exporter, newSpanId, call, status, durationUs);
  };
  ports.logEntry = (environment, entry) => {
    logEntry(environment, entry);
    const { level, text, source, trace } = entry;
    const attributes = { 'orchard.app': environment.app, 'orchard.environment': environment.name, 'orchard.source': source };
    exporter.add('logs', [logRecordOf({ at: now(), level, text: maskSecrets(text), trace: trace ?? null, attributes })]);
  };
  return { name: 'otlp', start: () => exporter.start(), stop: () => exporter.stop() };
}

/** Attributes by the semantic conventions of HTTP spans. */
function exportCall(exporter: OtlpExporter, newSpanId: () => string, call: Call, status: number, durationUs: number): void {
  const { method, path: route } = call.operation;
  const environment = call.environment;
  const place = { 'orchard.app': environment?.app, 'orchard.environment': environment?.name };
  exporter.count(`${environment?.id} ${method} ${route} ${status}`, () => ({
    ...place,
    'http.request.method': method,
    'http.route': route,
    'http.response.status_code': status,
  }));
  if (!call.trace.sampled) return;
  const spans = spansOf(
    {
      at: call.at,
      durationUs,
      traceId: call.trace.traceId,
      spanId: call.trace.spanId,
      parentSpanId: call.parentSpan,
      name: `${method} ${route}`,
      failed: status >= 500,
      attributes: {
        ...place,
        'http.request.method': method,
        'http.route': route,
        'http.response.status_code': status,
        'orchard.client': call.holder?.client.name,
        'orchard.problem': call.problem?.problem,
        'orchard.request': call.id,
      },
      steps: timelineOf(call),
    },
    newSpanId,
  );
  exporter.add('traces', spans);
}
