/** A service that is killed in the middle of uploads: nothing is half-visible, and a resumable one goes on where it was. */
import { randomBytes } from 'node:crypto';
import { request as httpRequest } from 'node:http';
import { expect, it } from 'vitest';
import { startKillable } from './killable.js';
import { eventually, makeApp } from './support.js';

it('shows nothing of an upload that a kill broke off, and goes on with a resumable one', async () => {
  const service = await startKillable('killed-upload');
  const { dev } = await makeApp(service, 'killed');
  const tus = { 'Orchard-Key': dev.serverKey, 'Tus-Resumable': '1.0.0' };
  const PARTS = { 'Content-Type': 'application/offset+octet-stream' };
  const at = (path: string) => `${service.address}/app/v1${path}`;
  const content = randomBytes(3_000_000);
  const half = content.subarray(0, 1_500_000);
  const metadata = `path ${Buffer.from('photos/resumed.bin').toString('base64')}`;
  const begun = await fetch(at('/uploads'), {
    method: 'POST',
    headers: { ...tus, 'Upload-Length': String(content.length), 'Upload-Metadata': metadata },
  });
  const upload = begun.headers.get('location') as string;
  /** Sends half of the content, and leaves the rest waiting until the service is gone. */
  const begin = (method: string, address: string, headers: Record<string, string>) => {
    const sending = httpRequest(address, { method, headers: { ...headers, 'Content-Length': content.length } });
    sending.on('error', () => undefined);
    sending.write(half);
  };
  begin('PATCH', upload, { ...tus, ...PARTS, 'Upload-Offset': '0' });
  begin('PUT', at('/files/photos/put.bin'), { 'Orchard-Key': dev.serverKey });
  const offset = async () => Number((await fetch(upload, { method: 'HEAD', headers: tus })).headers.get('upload-offset'));
  await new Promise((resolve) => setTimeout(resolve, 1_000));
  await service.kill();
  await service.restart();
  const arrived = await eventually(offset);
  expect(arrived).toBeGreaterThan(0);
  expect(arrived).toBeLessThanOrEqual(half.length);
  const read = (path: string) => fetch(at(`/files/${path}`), { headers: { 'Orchard-Key': dev.serverKey } });
  expect([(await read('photos/resumed.bin')).status, (await read('photos/put.bin')).status]).toEqual([404, 404]);
  const rest = content.subarray(arrived);
  const finished = await fetch(upload, { method: 'PATCH', headers: { ...tus, ...PARTS, 'Upload-Offset': String(arrived) }, body: rest });
  expect(finished.status).toBe(204);
  expect(Buffer.from(await (await read('photos/resumed.bin')).arrayBuffer()).equals(content)).toBe(true);
  await service.stop();
}, 120_000);
