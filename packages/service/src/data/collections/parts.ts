/** What this room stands on. */
import type { Platform } from '../../platform/platform.js';
import type { Notices } from '../../setup/notices/noticeStore.js';
import type { Catalogue } from './catalogue.js';
import type { CollectionPorts } from './ports.js';
import type { QueryLog } from './queryLog.js';
import type { SlowPatterns } from './slowPatterns.js';

export type Stands = Platform & { notices: Notices };
export type Parts = Stands & {
  collectionPorts: CollectionPorts;
  catalogue: Catalogue;
  queryLog: QueryLog;
  slowPatterns: SlowPatterns;
};
