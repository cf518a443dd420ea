import { operations } from '@orchard/contract';
import type { GatewayMapping } from '@orchard/core/messages';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf, bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import {
  addGateway,
  changeGateway,
  checkGateway,
  listGateways,
  listMappings,
  putMapping,
  removeGateway,
  rotateKey,
  showGateway,
} from './managing.js';
import type { Parts } from './parts.js';

export function gatewayRoutes(parts: Parts): Route[] {
  const own = operations.gateways;
  const audited = { read: (call: Naming<{ gateway: string }>) => orNone(showGateway(parts, environmentOf(call), call.params.gateway)) };
  return [
    bind(own.list, async (call) => ({ body: { items: await listGateways(parts, environmentOf(call)) } })),
    bind(own.create, async (call) => ({ body: await addGateway(parts, environmentOf(call), call.body, authorOf(call)) })),
    bind(own.read, async (call) => ({ body: await showGateway(parts, environmentOf(call), call.params.gateway) })),
    bind(own.patch, async (call) => ({ body: await changeGateway(parts, environmentOf(call), call.params.gateway, call.body) }), audited),
    bind(
      own.remove,
      async (call) => {
        await removeGateway(parts, environmentOf(call), call.params.gateway);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.check, async (call) => ({ body: await checkGateway(parts, environmentOf(call), call.params.gateway) })),
    bind(own.rotate, async (call) => ({ body: await rotateKey(parts, environmentOf(call), call.params.gateway) }), audited),
    bind(own.mappings, async (call) => ({
      body: { items: await listMappings(parts, environmentOf(call), call.params.gateway, call.query.limit) },
    })),
    bind(own.putMapping, async (call) => ({
      body: await putMapping(parts, environmentOf(call), call.params.gateway, call.body as GatewayMapping, authorOf(call)),
    })),
  ];
}
