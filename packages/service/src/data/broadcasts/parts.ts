/** What this room stands on. */
import type { FilesOffer, Stands as FileStands } from '../files/parts.js';

export type Parts = FileStands & FilesOffer;
