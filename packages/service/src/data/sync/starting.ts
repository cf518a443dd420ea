/** Starters: a ZIP that runs as it is, with the files of the client library in it. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type operations, Problem } from '@orchard/contract';
import { STARTER_LIBRARY, type Starter, starterFiles } from '@orchard/core';
import { create as contentDisposition } from 'content-disposition';
import yazl from 'yazl';
import { type Call, environmentOf } from '../../platform/call.js';
import { LIBRARY } from '../../platform/http/library.js';
import { AppStore } from '../../setup/apps/store.js';
import type { Parts } from './parts.js';

type StarterCall = Call<(typeof operations.sync)['starter']>;

/** @throws {Problem} not-found, where the client has no key that works */
export async function sendStarter(parts: Parts, call: StarterCall): Promise<'streaming'> {
  const environment = environmentOf(call);
  const starter = call.params.starter as Starter;
  const client = await new AppStore(parts).client(environment, call.query.client);
  const key = client.keys.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;
  if (!key) throw new Problem('not-found', `The client ${call.query.client} has no client key. Add one under Clients and keys.`);
  const push = (await parts.gateways.rows(environment)).some(({ kind }) => kind === 'web-push');
  const zip = new yazl.ZipFile();
  const at = (path: string) => `${environment.app}-${starter}/${path}`;
  const files = starterFiles(starter, { app: environment.app, environment: environment.name, address: parts.address(), key, push });
  for (const [path, text] of Object.entries(files)) zip.addBuffer(Buffer.from(text), at(path));
  for (const name of STARTER_LIBRARY[starter]) zip.addBuffer(readFileSync(join(LIBRARY, name)), at(name));
  zip.end();
  const { response } = call;
  response
    .status(200)
    .set({ 'content-type': 'application/zip', 'content-disposition': contentDisposition(`${environment.app}-${starter}.zip`) });
  zip.outputStream.pipe(response);
  return 'streaming';
}
