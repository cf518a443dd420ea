/** What this room stands on. */
import type { Catalogue } from '../../data/collections/catalogue.js';
import type { Contents } from '../../data/files/contents.js';
import type { Platform } from '../../platform/platform.js';
import type { Notices } from '../notices/noticeStore.js';

export type Parts = Platform & { catalogue: Catalogue; contents: Contents; notices: Notices };
