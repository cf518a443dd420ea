/** Files of a folder as one ZIP, written while it is read. */
import { once } from 'node:events';
import { create as contentDisposition } from 'content-disposition';
import yazl from 'yazl';
import { type Call, environmentOf } from '../../platform/call.js';
import { authorOf } from '../records/author.js';
import type { Contents } from './contents.js';
import { folderPathOf } from './paths.js';
import type { FileReading } from './reading.js';

/** What is compressed already is stored as it is. */
const PACKED = /^(image\/(?!svg|bmp|tiff)|video\/|audio\/|application\/(zip|gzip|x-7z|x-rar|pdf))/;

/** @throws {Problem} malformed-filter */
export async function answerArchive(
  call: Call,
  reading: FileReading,
  contents: Contents,
  named: string,
  filter: string | undefined,
): Promise<'streaming'> {
  const environment = environmentOf(call);
  const { response } = call;
  const folder = folderPathOf(named);
  const files = reading.all(environment, folder, filter, authorOf(call));
  // An invalid filter is a problem response, before the archive begins.
  let next = await files.next();
  response.writeHead(200, {
    'content-type': 'application/zip',
    'content-disposition': contentDisposition(`${folder.slice(folder.lastIndexOf('/') + 1) || environment.app}.zip`),
    'cache-control': 'no-store',
  });
  const zip = new yazl.ZipFile();
  const over = new Promise<void>((resolve) => response.once('close', resolve));
  zip.outputStream.pipe(response);
  for (; !next.done && !response.destroyed; next = await files.next()) {
    const { path, digest, type, updatedAt } = next.value;
    const stream = contents.bytes.read(environment.id, digest);
    // One file at a time is open, however many there are.
    const read = Promise.race([once(stream, 'close'), over]);
    stream.once('error', () => response.destroy());
    zip.addReadStream(stream, folder === '' ? path : path.slice(folder.length + 1), {
      mtime: new Date(updatedAt),
      compress: !PACKED.test(type),
    });
    await read;
  }
  zip.end();
  await Promise.race([once(zip.outputStream, 'end'), over]);
  return 'streaming';
}
