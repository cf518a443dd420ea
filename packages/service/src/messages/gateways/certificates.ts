/** The certificates of all gateways, kept for a minute: who asks does so every few seconds. */
import type { GatewayCertificate } from '../../platform/ports.js';
import type { Parts } from './parts.js';

const REMEMBER_MS = 60_000;

export function certificatesOf(parts: Pick<Parts, 'directory' | 'gateways' | 'now'>): () => Promise<GatewayCertificate[]> {
  let known: GatewayCertificate[] = [];
  let readAt = Number.NEGATIVE_INFINITY;
  return async () => {
    if (parts.now() - readAt < REMEMBER_MS) return known;
    readAt = parts.now();
    const found: GatewayCertificate[] = [];
    for (const environment of await parts.directory.allEnvironments())
      for (const { name, expiresAt } of await parts.gateways.store.ofKind(environment, 'certificate'))
        if (expiresAt) found.push({ gateway: name, place: `${environment.app}/${environment.name}`, expiresAt });
    known = found;
    return known;
  };
}
