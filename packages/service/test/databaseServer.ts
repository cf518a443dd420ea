/**
 * What the whole test run shares: a place for its files, one MariaDB, in which each test file makes databases of its own, and
 * the authority behind the simulators' certificates, whose key takes long to make.
 */
import { type Authority, makeAuthority } from '@orchard/simulators';
import pino from 'pino';
import type { TestProject } from 'vitest/node';
import { startDatabaseServer } from '../src/platform/database/server.js';
import { makeScratch, scratchDirectory } from './scratch.js';

declare module 'vitest' {
  export interface ProvidedContext {
    databaseUrl: string;
    authority: Authority;
  }
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const removeScratch = makeScratch();
  const server = await startDatabaseServer(scratchDirectory('database'), pino({ level: 'silent' }));
  project.provide('databaseUrl', server.url);
  project.provide('authority', makeAuthority());
  return async () => {
    await server.stop();
    removeScratch();
  };
}
