/** Devices that a change of a gateway would strand: registered with an address that means nothing afterwards. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { GatewayRow } from './store.js';

export type Stranding = { devices: number; stranded: number; why: string | null };
type Side = { settings: JsonObject; project: string | null };

/** @param before as it is; `after` as it would be */
export async function strandingOf(parts: Parts, environment: Environment, row: GatewayRow, before: Side, after: Side): Promise<Stranding> {
  const { devices } = await parts.gatewayPorts.use(environment, await parts.gateways.rows(environment));
  const registered = devices.find(({ gateway }) => gateway === row.name)?.registered ?? 0;
  const why = whyStranded(before, after);
  return { devices: registered, stranded: why ? registered : 0, why };
}

/** An address belongs to the network that gave it, and there to a project. */
function whyStranded(before: Side, after: Side): string | null {
  const origin = ({ settings }: Side) => (typeof settings.address === 'string' ? new URL(settings.address).origin : null);
  if (origin(before) !== origin(after)) return `They registered at ${origin(before)}; their addresses mean nothing at ${origin(after)}.`;
  if (before.project && after.project && before.project !== after.project)
    return `Their addresses belong to project ${before.project}, and the new credential is of ${after.project}.`;
  return null;
}

/** @throws {Problem} devices-stranded */
export function demandUnstranded({ stranded, why }: Stranding, agreed: boolean): void {
  if (stranded === 0 || agreed) return;
  throw new Problem('devices-stranded', `${stranded} registered device${stranded === 1 ? '' : 's'} could not be reached any more. ${why}`, {
    fields: [
      {
        path: 'body.strandDevices',
        problem: 'It is not set.',
        expected: 'true, to change it all the same; each app registers again when it is opened',
      },
    ],
  });
}
