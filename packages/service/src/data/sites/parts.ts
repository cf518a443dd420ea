/** What this room stands on. */
import type { FilesOffer } from '../files/offer.js';
import type { Stands as FileStands } from '../files/parts.js';

export type Parts = FileStands & FilesOffer;
