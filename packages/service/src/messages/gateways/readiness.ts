/** What a gateway is missing before the first message can arrive. */
import type { Gateway, GatewayCheck } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { GatewayRow } from './store.js';

export type GatewayFacts = {
  client: { packageIdentifier: string | null; project: string | null } | null;
  /** Number of its devices; null for gateways that are not for devices. */
  devices: { registered: number; reachable: number } | null;
  mapping: { version: number; title: string } | null;
  keys: { id: string; createdAt: string }[];
  lastDay: Gateway['lastDay'];
};
const DAY_MS = 86_400_000;

export function readinessOf(row: GatewayRow, facts: GatewayFacts, now: number): Gateway['readiness'] {
  const items: Gateway['readiness'] = [];
  const add = (what: string, ready: boolean, text: string) => items.push({ what, ready, text });
  if (row.client && !facts.client) add('client', false, `Client ${row.client} is gone. Add it again, or remove this gateway.`);
  if (row.expiresAt) {
    const days = Math.floor((row.expiresAt.getTime() - now) / DAY_MS);
    add(
      'certificate',
      days >= 0,
      days >= 0
        ? `The certificate is valid for ${days} more days.`
        : `The certificate expired at ${row.expiresAt.toISOString()}. Upload a new one.`,
    );
  }
  if (row.refusedAt)
    add(
      'credential',
      false,
      `The network has rejected the credential since ${row.refusedAt.toISOString().slice(0, 16).replace('T', ' ')} UTC; messages are waiting. ${row.refusal ?? ''} Upload a new one.`,
    );
  if (row.kind !== 'web-push') {
    const check = row.check as GatewayCheck | null;
    const failed = check?.steps.find(({ ok }) => !ok);
    add(
      'check',
      Boolean(check?.ok),
      !check ? 'Not checked yet. Run “Check now”.' : failed ? `The latest check failed: ${failed.text}` : 'The latest check passed.',
    );
  }
  if (facts.devices) {
    const { registered, reachable } = facts.devices;
    add(
      'device',
      registered > 0,
      registered > 0
        ? `${registered} devices have registered an address for it.`
        : `No device has registered an address for it yet. Start the app on a phone, and look under Devices.`,
    );
    if (registered > 0)
      add('permission', reachable > 0, reachable > 0 ? `${reachable} of them allow notifications.` : 'None of them allows notifications.');
  }
  return items;
}

/** A description of the credential. */
export function credentialText(row: GatewayRow, facts: GatewayFacts): string {
  if (row.kind === 'web-push')
    return facts.keys.length > 1
      ? `${facts.keys.length} keys: the latest from ${facts.keys.at(-1)?.createdAt.slice(0, 10)}; older ones still reach devices that subscribed with them.`
      : `One key, generated here on ${facts.keys[0]?.createdAt.slice(0, 10)}.`;
  return String((row.settings as JsonObject).credential ?? 'A password.');
}
