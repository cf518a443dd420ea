import type { Capability } from '../../platform/capability.js';
import { WEB_PUSH } from '../../messages/gateways/webPush.js';
import type { Parts } from './parts.js';
import { memberWayRoutes } from './routes.js';
import { mailThrough } from './sending.js';
import { WayStore } from './store.js';
import { MemberMessages, TELL_JOB } from './telling.js';

export function memberWays(parts: Parts): Capability<{ memberMessages: MemberMessages }> {
  const memberMessages = new MemberMessages(parts);
  const store = new WayStore(parts.database);
  const mailGateway = () => parts.gateways.openFor(parts.directory.installation(), 'mail');
  parts.ports.waysOfMembers = () => store.verified();
  parts.ports.hasMailGateway = async () => (await mailGateway()) !== null;
  parts.ports.mailByGateway = (mail) => mailThrough(parts, mail);
  return {
    name: 'memberWays',
    offer: { memberMessages },
    routes: memberWayRoutes(parts, memberMessages),
    jobs: { [TELL_JOB]: { work: memberMessages.work } },
    prepare: () => prepareWebPush(parts),
  };
}

/** The installation has a web push key of its own, from its first start on. */
async function prepareWebPush(parts: Parts): Promise<void> {
  const ground = parts.directory.installation();
  await ground.db.withLease('web push key', async () => {
    if ((await parts.gateways.store.ofKind(ground, WEB_PUSH)).length === 0) await parts.webPush.prepare(ground);
  });
}
