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
  previewCredential,
  putMapping,
  removeGateway,
  rotateKey,
  showGateway,
} from './managing.js';
import type { Parts } from './parts.js';
import { addSigningRequest, listSigningRequests, removeSigningRequest } from './signingRequests.js';

export function gatewayRoutes(parts: Parts): Route[] {
  const own = operations.gateways;
  const audited = { read: (call: Naming<{ gateway: string }>) => orNone(showGateway(parts, environmentOf(call), call.params.gateway)) };
  return [
    bind(own.list, async (call) => ({ body: { items: await listGateways(parts, environmentOf(call)) } })),
    bind(own.create, async (call) => ({ body: await addGateway(parts, environmentOf(call), call.body, authorOf(call)) })),
    bind(own.read, async (call) => ({ body: await showGateway(parts, environmentOf(call), call.params.gateway) })),
    bind(own.previewCredential, async (call) => ({
      body: await previewCredential(parts, environmentOf(call), call.params.gateway, call.body),
    })),
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
    bind(own.signingRequests, async (call) => ({ body: { items: await listSigningRequests(environmentOf(call)) } })),
    bind(own.addSigningRequest, async (call) => ({ body: await addSigningRequest(parts, environmentOf(call), call.body, authorOf(call)) })),
    bind(own.removeSigningRequest, async (call) => {
      await removeSigningRequest(environmentOf(call), call.params.request);
      return { body: undefined };
    }),
    bind(own.mappings, async (call) => ({
      body: { items: await listMappings(parts, environmentOf(call), call.params.gateway, call.query.limit) },
    })),
    bind(own.putMapping, async (call) => ({
      body: await putMapping(parts, environmentOf(call), call.params.gateway, call.body as GatewayMapping, authorOf(call)),
    })),
  ];
}
