import type { Capability } from '../../platform/capability.js';
import { guarded, HOUR_MS } from '../../platform/upkeep.js';
import { watchExpiry } from './expiry.js';
import { GatewayDirectory } from './gatewayDirectory.js';
import type { Parts, Stands } from './parts.js';
import { emptyGatewayPorts } from './ports.js';
import { GatewayRefusals } from './refusals.js';
import { gatewayRoutes } from './routes.js';
import { WebPushGateway } from './webPush.js';

/** How often the links to SMS centres are looked after. */
const LINKS_MS = 3_000;

export function gateways(stands: Stands): Capability<Omit<Parts, keyof Stands>> {
  const { database, secretKey, config, notices, now, directory } = stands;
  const gatewayPorts = emptyGatewayPorts();
  const origins = config.pushOrigins.filter((origin) => /^https?:/.test(origin));
  const webPush = new WebPushGateway(database, secretKey, stands, origins, stands.address);
  const offer = {
    gatewayPorts,
    webPush,
    gateways: new GatewayDirectory(
      database,
      secretKey,
      stands,
      webPush,
      (environmentId, gateway) => gatewayPorts.smsEvents(environmentId, gateway),
      config.pushOrigins,
    ),
    refusals: new GatewayRefusals(database, notices, now),
  };
  const parts = { ...stands, ...offer };
  const keepLinks = () =>
    offer.gateways.keepLinks((gateway, error) => guarded(stands, 'links to SMS centres', { gateway }, () => Promise.reject(error)));
  return {
    name: 'gateways',
    offer,
    routes: gatewayRoutes(parts),
    periodic: [
      {
        work: 'certificates that end',
        everyMs: HOUR_MS,
        atStart: true,
        run: async () => watchExpiry(parts, await directory.allEnvironments()),
      },
      { work: 'links to SMS centres', everyMs: LINKS_MS, atStart: true, run: keepLinks },
    ],
    onEnvironmentCreated: ({ id }) => webPush.prepare(id),
    stop: async () => {
      offer.gateways.close();
      await webPush.close();
    },
  };
}
