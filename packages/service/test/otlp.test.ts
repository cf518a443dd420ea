/** Traces, logs and metrics to a collector: a real receiver over HTTP. */
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

type Attribute = { key: string; value: { stringValue?: string; intValue?: string } };
type Span = {
  traceId: string;
  spanId: string;
  parentSpanId?: string;
  name: string;
  attributes: Attribute[];
  startTimeUnixNano: string;
  endTimeUnixNano: string;
};
// biome-ignore lint/suspicious/noExplicitAny: what a collector got
type Got = { path: string; body: any };
let test: TestService;
let app: TestApp;
let server: Server;
const got: Got[] = [];
let status = 200;

beforeAll(async () => {
  server = createServer((request, response) => {
    const chunks: Buffer[] = [];
    request.on('data', (chunk) => chunks.push(chunk));
    request.on('end', () => {
      if (status === 200) got.push({ path: request.url ?? '', body: JSON.parse(Buffer.concat(chunks).toString()) });
      response.writeHead(status, { 'content-type': 'application/json' }).end('{}');
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const otlpUrl = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  test = await startTestService(inject('databaseUrl'), { otlpUrl });
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(async () => {
  await test.stop();
  server.close();
});

const spans = (): Span[] =>
  got.filter(({ path }) => path === '/v1/traces').flatMap(({ body }) => body.resourceSpans[0].scopeSpans[0].spans);
const attribute = ({ attributes }: { attributes: Attribute[] }, key: string) => attributes.find((one) => one.key === key)?.value;
const call = (trace: string) =>
  test.app('GET', '/data/huts', { key: app.dev.serverKey, headers: { traceparent: `00-${trace}-00f067aa0ba902b7-01` } });

it('a call is a span below that of its caller, with its steps below it', async () => {
  const trace = '4bf92f3577b34da6a3ce929d0e0e4736';
  await call(trace);
  const own = await eventually(() => {
    const found = spans().filter(({ traceId }) => traceId === trace);
    return found.length > 0 && found;
  });
  const root = own.find(({ name }) => name === 'GET /app/v1/data/{collection}') as Span;
  expect(root.parentSpanId).toBe('00f067aa0ba902b7');
  expect(attribute(root, 'http.response.status_code')).toEqual({ intValue: '404' });
  expect(attribute(root, 'orchard.environment')).toEqual({ stringValue: 'dev' });
  const steps = own.filter(({ parentSpanId }) => parentSpanId === root.spanId);
  expect(steps.map(({ name }) => name)).toContain('key');
  for (const step of steps) expect(BigInt(step.startTimeUnixNano)).toBeGreaterThanOrEqual(BigInt(root.startTimeUnixNano));
});

it('counts of calls arrive as sums, and entries of the service as log records', async () => {
  const environment = await test.service.parts.directory.environment(app.name, 'dev');
  test.service.parts.ports.logEntry(environment, { level: 'warning', source: 'gateway cairn', text: `refused ${app.dev.serverKey}` });
  await eventually(() => got.some(({ path }) => path === '/v1/metrics') && got.some(({ path }) => path === '/v1/logs'));
  const metric = got.find(({ path }) => path === '/v1/metrics')?.body.resourceMetrics[0].scopeMetrics[0].metrics[0];
  expect(metric).toMatchObject({ name: 'orchard.calls', sum: { isMonotonic: true } });
  const record = got.find(({ path }) => path === '/v1/logs')?.body.resourceLogs[0].scopeLogs[0].logRecords[0];
  expect(record).toMatchObject({ severityText: 'warning', body: { stringValue: 'refused skey-…' } });
});

it('what a collector cannot take now is sent when it can, and no call waits for it', async () => {
  status = 503;
  const trace = 'aaaa2f3577b34da6a3ce929d0e0e4736';
  await call(trace);
  await new Promise((resolve) => setTimeout(resolve, 2_500));
  expect((await call('bbbb2f3577b34da6a3ce929d0e0e4736')).status).toBe(404);
  status = 200;
  await eventually(() => spans().some(({ traceId }) => traceId === trace));
});
