/** One MariaDB for the whole test run; each test file makes databases of its own in it. */
import { rmSync } from 'node:fs';
import pino from 'pino';
import type { TestProject } from 'vitest/node';
import { startDatabaseServer } from '../src/platform/database/server.js';
import { scratchDirectory } from './scratch.js';

declare module 'vitest' {
  export interface ProvidedContext {
    databaseUrl: string;
  }
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const directory = scratchDirectory('database');
  const server = await startDatabaseServer(directory, pino({ level: 'silent' }));
  project.provide('databaseUrl', server.url);
  return async () => {
    await server.stop();
    rmSync(directory, { recursive: true, force: true });
  };
}
