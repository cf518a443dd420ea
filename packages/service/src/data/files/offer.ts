/** What later rooms may use. */
import type { FileChanges } from './changing.js';
import type { Contents } from './contents.js';
import type { FileReading } from './reading.js';
import type { FileStoring } from './storing.js';

export type FilesOffer = { contents: Contents; fileReading: FileReading; fileStoring: FileStoring; fileChanges: FileChanges };
