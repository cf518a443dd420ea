import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import type { Platform } from '../../platform/platform.js';
import { Notices } from './noticeStore.js';
import { noticeRoutes } from './routes.js';

export function notices(platform: Platform): Capability<{ notices: Notices }> {
  const offer = { notices: new Notices(platform.database, platform) };
  return {
    name: 'notices',
    offer,
    routes: noticeRoutes({ ...platform, ...offer }),
    marks: [{ name: 'notices', of: () => ({ sql: latestSql('notices', 'at') }) }],
  };
}
