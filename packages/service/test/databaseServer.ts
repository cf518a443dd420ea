/**
 * What the whole test run shares: one MariaDB, in which each test file makes databases of its own, and the authority behind the
 * simulators' certificates, whose key takes long to make.
 */
import { rmSync } from 'node:fs';
import { type Authority, makeAuthority } from '@orchard/simulators';
import pino from 'pino';
import type { TestProject } from 'vitest/node';
import { startDatabaseServer } from '../src/platform/database/server.js';
import { scratchDirectory } from './scratch.js';

declare module 'vitest' {
  export interface ProvidedContext {
    databaseUrl: string;
    authority: Authority;
  }
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const directory = scratchDirectory('database');
  const server = await startDatabaseServer(directory, pino({ level: 'silent' }));
  project.provide('databaseUrl', server.url);
  project.provide('authority', makeAuthority());
  return async () => {
    await server.stop();
    rmSync(directory, { recursive: true, force: true });
  };
}
