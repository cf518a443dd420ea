import type { Capability } from '../../platform/capability.js';
import { guarded, HOUR_MS } from '../../platform/upkeep.js';
import { certificatesOf } from './certificates.js';
import { watchExpiry } from './expiry.js';
import { GatewayDirectory } from './gatewayDirectory.js';
import { AppStore } from '../../setup/apps/store.js';
import { haveFormerRows } from '../../platform/database/formerRows.js';
import { takeOverGateways } from './formerGateways.js';
import { formerGateways } from './systemTables.js';
import type { Parts, Stands } from './parts.js';
import { emptyGatewayPorts } from './ports.js';
import { GatewayRefusals } from './refusals.js';
import { gatewayRoutes } from './routes.js';
import { WebPushGateway } from './webPush.js';

/** How often the keep links to SMS centres are maintained. */
const LINKS_MS = 3_000;

/** How often SMS centres added by another instance are looked up. */
const FIND_LINKS_MS = 60_000;

export function gateways(stands: Stands): Capability<Omit<Parts, keyof Stands>> {
  const { config, notices, now, directory } = stands;
  const gatewayPorts = emptyGatewayPorts();
  const apps = new AppStore(stands);
  const origins = config.pushOrigins.filter((origin) => /^https?:/.test(origin));
  const webPush = new WebPushGateway(stands, origins, stands.address);
  const directoryOfGateways = new GatewayDirectory(
    (environment, name) => apps.findClient(environment, name),
    stands,
    webPush,
    (environment, gateway) => gatewayPorts.smsEvents(environment, gateway),
    config.pushOrigins,
  );
  const offer = { gatewayPorts, webPush, gateways: directoryOfGateways, refusals: new GatewayRefusals(notices, now) };
  const parts = { ...stands, ...offer };
  stands.ports.certificates = certificatesOf(parts);
  const keepLinks = () =>
    directoryOfGateways.keepLinks((gateway, error) =>
      guarded(stands, 'keep links to SMS centres', { gateway }, () => Promise.reject(error)),
    );
  return {
    name: 'gateways',
    offer,
    routes: gatewayRoutes(parts),
    recurring: [
      { work: 'warn of expiring certificates', everyMs: HOUR_MS, eachEnvironment: (environment) => watchExpiry(parts, environment) },
    ],
    onEveryInstance: [
      {
        work: 'find new SMS centres',
        everyMs: FIND_LINKS_MS,
        run: async () => {
          await directoryOfGateways.findLinks([...(await directory.allEnvironments()), directory.installation()]);
          await keepLinks();
        },
      },
      { work: 'keep links to SMS centres', everyMs: LINKS_MS, run: keepLinks },
    ],
    forget: (environment) => directoryOfGateways.forget(environment),
    upgrade: {
      needed: (environments) => haveFormerRows(stands.database, formerGateways, environments),
      run: (environment) => takeOverGateways(stands, environment),
    },
    onEnvironmentCreated: (environment) => webPush.prepare(environment),
    stop: async () => {
      directoryOfGateways.close();
      await webPush.close();
    },
  };
}
