/** Alerts for what is told once: certificates, gateways, jobs, and what is out of the ordinary. */
import type { NewNotice } from '../../setup/notices/noticeStore.js';
import type { Parts } from './parts.js';
import type { AlertSender } from './sending.js';
import type { AlertRules } from './settings.js';

/** Tells everybody of the first step of each rule for this kind of notice. */
export async function tellOfNotice(
  parts: Parts,
  rules: AlertRules,
  sender: AlertSender,
  { environmentId, kind, title, body, link }: NewNotice,
): Promise<void> {
  const environment = environmentId && (await parts.directory.environmentById(environmentId));
  if (!environment) return;
  const place = `${environment.app}/${environment.name}`;
  for (const { on, steps } of (await rules.stored(environment)).rules) {
    if (on !== kind) continue;
    const message = {
      title: `${place}: ${title}`,
      body,
      link: link ?? `/${place}/overview`,
      urgent: false,
      webhook: { type: `notice.${kind}`, app: environment.app, environment: environment.name, title, text: body },
    };
    await sender.send(environment, steps[0] ?? [], message, null);
  }
}
