/** What the room of files is made of. */
import { Records } from '../records/records.js';
import { FileAccess } from './access.js';
import { UploadAddresses } from './addressing.js';
import { FileChanges } from './changing.js';
import { Contents } from './contents.js';
import { Folders } from './folders.js';
import type { Parts } from './parts.js';
import { FileReading } from './reading.js';
import { Renditions } from './renditions.js';
import { ResumableUploads } from './resumable.js';
import { Sharing } from './sharing.js';
import { FileStoring } from './storing.js';

export type FilesRoom = ReturnType<typeof openFiles>;

export function openFiles(parts: Parts) {
  const records = new Records(parts);
  const contents = new Contents(parts);
  const folders = new Folders(parts);
  const access = new FileAccess(parts, folders);
  const storing = new FileStoring(parts, records, folders, access, contents);
  const reading = new FileReading(parts, records, folders, access, new Renditions(parts, contents));
  return {
    parts,
    contents,
    folders,
    access,
    storing,
    reading,
    changes: new FileChanges(parts, storing, (environment, named) => reading.find(environment, named)),
    sharing: new Sharing(parts, access, reading),
    addresses: new UploadAddresses(parts, storing, contents),
    resumable: new ResumableUploads(parts, storing, contents),
  };
}
