// Loaded into the service's process before it starts: tells the parent, when asked, the longest block of the event loop.
import { monitorEventLoopDelay } from 'node:perf_hooks';

const delay = monitorEventLoopDelay({ resolution: 5 });
delay.enable();
process.on('message', (message) => {
  if (message !== 'block') return;
  process.send({ block: Math.max(0, delay.max / 1e6 - 5), p99: Math.max(0, delay.percentile(99) / 1e6 - 5) });
  delay.reset();
});
