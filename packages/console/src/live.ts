/** Reads things anew when the service says that they changed. */
import { useEffect } from 'react';
import { refreshCalls } from './api.js';

const CALLS = {
  records: ['managedRecords.', 'collections.'],
  deliveries: ['notifications.', 'sms.'],
  requests: ['requests.', 'origins.'],
  devices: ['devices.'],
  users: ['users.'],
  notices: ['notices.'],
  jobs: ['jobs.'],
} as const;
type Mark = keyof typeof CALLS;
/** Recorded requests arrive every second; reading them more often than this would only flicker. */
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
    return () => source.close();
  }, [app, environment]);
}
