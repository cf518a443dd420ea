/** What this room stands on. */
import type { Contents } from './contents.js';
import type { FileChanges } from './changing.js';
import type { FileReading } from './reading.js';
import type { FileStoring } from './storing.js';
import type { Parts as FunctionParts } from '../functions/parts.js';

export type Stands = FunctionParts;
/** What later rooms may use: the contents, and where they say which of them are theirs. */
export type FilesOffer = { contents: Contents; fileReading: FileReading; fileStoring: FileStoring; fileChanges: FileChanges };
export type Parts = Stands;
