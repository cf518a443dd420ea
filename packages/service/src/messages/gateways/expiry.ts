/** Members are notified 30, 7 and 1 day before a gateway's certificate expires, and when it has. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

const DAY_MS = 86_400_000;
const AHEAD = [0, 1, 7, 30];

export async function watchExpiry(parts: Parts, environment: Environment): Promise<void> {
  for (const row of await parts.gateways.store.ofKind(environment, 'certificate')) {
    if (!row.expiresAt) continue;
    const left = row.expiresAt.getTime() - parts.now();
    const step = AHEAD.find((days) => left <= days * DAY_MS);
    if (step === undefined) continue;
    const place = `${environment.app}/${environment.name}`;
    const when = left <= 0 ? 'has expired' : `ends in ${Math.max(1, Math.ceil(left / DAY_MS))} day${left > DAY_MS ? 's' : ''}`;
    await parts.notices.tell({
      kind: 'certificate',
      environmentId: environment.id,
      once: `certificate ${row.id} ${row.expiresAt.toISOString()} ${step}`,
      title: `The certificate of gateway ${row.name} ${when}`,
      body: `Notifications from ${place} through ${row.name} stop at ${row.expiresAt.toISOString().slice(0, 16).replace('T', ' ')} UTC. Ask the push network for a new certificate and upload it under Messages, Gateways.`,
      link: `/${place}/gateways?open=${row.name}`,
    });
  }
}
