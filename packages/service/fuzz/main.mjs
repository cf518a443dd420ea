// npm run fuzz: calls made from the contract against a real service, with what they did to it.
import { fork } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { parseArgs } from 'node:util';
import { fuzz, prepare } from './calls.mjs';
import { largeCalls } from './large.mjs';

const { values } = parseArgs({
  options: {
    seed: { type: 'string', default: '1' },
    calls: { type: 'string', default: '10000' },
    only: { type: 'string', default: '' },
    trace: { type: 'boolean', default: false },
  },
});
const data = mkdtempSync(join(tmpdir(), 'orchard-fuzz-'));
const service = fork(fileURLToPath(new URL('../dist/main.js', import.meta.url)), [], {
  execArgv: ['--import', new URL('./watch.mjs', import.meta.url).href],
  env: {
    ...process.env,
    ORCHARD_PORT: '0',
    ORCHARD_DATA: data,
    ORCHARD_LOG_LEVEL: 'error',
    ORCHARD_KEY_RATE: '100000000',
    ORCHARD_ADDRESS_RATE: '100000000',
    ORCHARD_SIGN_IN_RATE: '100000000',
  },
  stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
});
const ask = async () => {
  service.send('block');
  const [answer] = await once(service, 'message');
  return answer;
};
const residentMb = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${service.pid}/status`, 'utf8'))[1]) / 1024;
const quantile = (times, part) => times.toSorted((a, b) => a - b)[Math.floor(times.length * part)] ?? 0;

try {
  const [{ address, setupAddress }] = await once(service, 'message');
  const ground = await prepare(address, setupAddress);
  await ask();
  // With --trace one call at a time, so that a block of the event loop can be told to be the call's.
  const blocks = [];
  const note = async ({ operation, body }) => blocks.push({ ms: (await ask()).block, operation, body: String(body ?? '').slice(0, 100) });
  const report = await fuzz(ground, {
    seed: Number(values.seed),
    calls: Number(values.calls),
    only: values.only,
    ...(values.trace ? { atOnce: 1, after: note } : {}),
  });
  const mixed = await ask();
  for (const { ms, operation, body } of blocks.toSorted((a, b) => b.ms - a.ms).slice(0, 10))
    console.log(`${ms.toFixed(0).padStart(6)} ms  ${operation}  ${body}`);
  console.log(
    `${report.calls} calls, seed ${values.seed}: ${Object.entries(report.statuses)
      .map(([status, n]) => `${n} × ${status}`)
      .join(', ')}`,
  );
  console.log(
    `p99 ${quantile(report.times, 0.99).toFixed(0)} ms, longest block of the event loop ${mixed.block.toFixed(0)} ms, memory ${residentMb().toFixed(0)} MB`,
  );
  for (const slow of report.slowest.slice(0, 10)) console.log('slow', JSON.stringify(slow));
  for (const failure of report.failures.slice(0, 20)) console.log(JSON.stringify(failure));
  const large = [];
  for (const { name, make } of values.only ? [] : largeCalls(ground)) {
    await ask();
    const status = await make();
    large.push({ name, status, block: (await ask()).block });
  }
  for (const { name, status, block } of large.toSorted((a, b) => b.block - a.block))
    console.log(`${block.toFixed(0).padStart(6)} ms  ${status}  ${name}`);
  const failed = report.failures.length + large.filter(({ status }) => status >= 500 && status !== 503).length;
  console.log(failed === 0 ? 'No failure.' : `${failed} failures.`);
  process.exitCode = failed === 0 ? 0 : 1;
} finally {
  const ended = once(service, 'exit');
  service.kill('SIGTERM');
  await ended;
  rmSync(data, { recursive: true, force: true });
}
