/** Refreshes responses when the service reports a change. */
import { operations } from '@orchard/contract';
import { useEffect } from 'react';
import { queries, refreshCalls } from './api.js';

const CALLS = {
  records: [operations.managedRecords, operations.collections],
  deliveries: [operations.notifications, operations.sms],
  requests: [operations.telemetry.requests, operations.telemetry.request, operations.clients.blockedOrigins],
  devices: [operations.devices],
  users: [operations.users],
  notices: [operations.notices],
  jobs: [operations.jobs],
  log: [operations.log.list, operations.log.errors],
} as const;
type Mark = keyof typeof CALLS;
/** Requests are recorded every second; refreshing more often would only flicker. */
const REQUESTS_EVERY_MS = 3_000;

/** Listens to an environment's changes while the page is open. */
export function useLiveChanges(app: string, environment: string): void {
  useEffect(() => {
    const source = new EventSource(`/manage/v1/apps/${app}/environments/${environment}/changes`);
    let last: Partial<Record<Mark, number>> = {};
    let requestsAt = 0;
    source.addEventListener('marks', ({ data }) => {
      const marks = JSON.parse(data) as Record<Mark, number>;
      const moved = (Object.keys(CALLS) as Mark[]).filter((mark) => last[mark] !== undefined && last[mark] !== marks[mark]);
      last = marks;
      for (const mark of moved) {
        if (mark === 'requests') {
          if (Date.now() - requestsAt < REQUESTS_EVERY_MS) continue;
          requestsAt = Date.now();
        }
        void refreshCalls(...CALLS[mark]);
      }
    });
    // The rights of the reader have ended, or were changed: whatever is shown may no longer be.
    source.addEventListener('ended', () => {
      source.close();
      void queries.invalidateQueries();
    });
    return () => source.close();
  }, [app, environment]);
}
