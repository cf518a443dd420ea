/** The program: a service that runs until it is told to stop. */
import { setFlagsFromString } from 'node:v8';
import { readConfig } from './platform/config.js';
import { createLog } from './platform/log.js';
import { type RunningService, startService } from './service.js';

// On a large machine V8 lets the heap grow fourfold before it collects: a hundred megabytes more, at about the same rate.
setFlagsFromString('--heap-growing-percent=100');

let running: RunningService | undefined;
let stopping = false;

async function stop(): Promise<void> {
  if (stopping) return;
  stopping = true;
  await running?.stop();
  process.exit(0);
}

process.on('SIGINT', stop);
process.on('SIGTERM', stop);
// Started as a child process (by the demo): exit with the parent.
process.on('disconnect', stop);

try {
  const config = readConfig(process.env);
  running = await startService(config, createLog(config.logLevel));
  if (process.send) process.send({ address: running.address, setupAddress: running.setupAddress });
  else {
    console.log(`\nVivid Orchard is at ${running.address}`);
    if (running.setupAddress) console.log(`There is no account yet. Create the owner account at\n  ${running.setupAddress}`);
    console.log('Ctrl-C stops it.\n');
  }
} catch (error) {
  console.error(`\n${(error as Error).message}\n`);
  process.exit(1);
}
