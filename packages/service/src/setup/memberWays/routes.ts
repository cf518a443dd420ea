import { MEMBER_WAYS, type MemberWayKind, operations, Problem } from '@orchard/contract';
import { withheld } from '@orchard/core';
import { addGateway, changeGateway, checkGateway, listGateways, removeGateway, showGateway } from '../../messages/gateways/managing.js';
import { orNone, originOf } from '../../platform/audit/audit.js';
import { authorOf, bind, type Call, type Naming, type Route, type SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { missingFor } from './sending.js';
import type { WayRow } from './store.js';
import { type MemberMessages, presentMessage } from './telling.js';
import { presentWay, Ways } from './ways.js';

export function memberWayRoutes(parts: Parts, messages: MemberMessages): Route[] {
  return [...wayRoutes(parts, messages), ...gatewayRoutes(parts)];
}

const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;

function wayRoutes(parts: Parts, messages: MemberMessages): Route[] {
  const own = operations.memberWays;
  const ways = new Ways(parts);
  const audited = {
    subject: (call: Pick<Call, 'member'>) => memberOf(call).id,
    read: async (call: Naming<{ way: string }>) => {
      const row = await orNone(ways.named(memberOf(call).id, call.params.way));
      return row && kept(parts, row);
    },
  };
  return [
    bind(own.list, async (call) => ({
      body: { items: (await ways.store.ofMember(memberOf(call).id)).map(presentWay), missing: await allMissing(parts) },
    })),
    bind(
      own.add,
      async (call) => {
        // A code goes out first, so the entry stands on its own.
        const added = await ways.add(memberOf(call).id, call.body);
        const { id, kind, verified } = added;
        await parts.audit.note(originOf(call as Call), {
          action: own.add.id,
          kind: 'member',
          subject: memberOf(call).id,
          after: { way: { id, kind, verified } },
        });
        return { body: added };
      },
      { as: 'own' },
    ),
    bind(
      own.verify,
      async (call) => {
        const verified = await ways.verify(memberOf(call).id, call.params.way, call.body.code);
        const { id, kind } = verified;
        await parts.audit.note(originOf(call as Call), {
          action: own.verify.id,
          kind: 'member',
          subject: memberOf(call).id,
          after: { way: { id, kind, verified: true } },
        });
        return { body: verified };
      },
      { as: 'own' },
    ),
    bind(own.patch, async (call) => ({ body: await ways.change(memberOf(call).id, call.params.way, call.body) }), audited),
    bind(
      own.remove,
      async (call) => {
        await ways.store.remove((await ways.named(memberOf(call).id, call.params.way)).id);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.test, async (call) => {
      const way = await ways.named(memberOf(call).id, call.params.way);
      if (!way.verifiedAt) throw new Problem('wrong-state', `${way.name} is not verified yet. Enter the code that was sent there first.`);
      const missing = await missingFor(parts, way.kind as MemberWayKind);
      if (missing) throw new Problem('gateway-missing', missing);
      const test = { title: 'A test from Vivid Orchard', body: 'This way works.', link: '/', urgent: true };
      return { body: await messages.sendNow(way, test) };
    }),
    bind(own.messages, async (call) => {
      const rows = await ways.store.messagesTo(memberOf(call).id);
      return { body: { items: rows.map(({ message, kind }) => presentMessage(message, kind)) } };
    }),
    bind(own.pushKey, async () => ({ body: { applicationServerKey: await parts.webPush.publicKey(parts.directory.installation()) } })),
  ];
}

async function allMissing(parts: Parts): Promise<Record<MemberWayKind, string | null>> {
  const found = await Promise.all(MEMBER_WAYS.map(async (kind) => [kind, await missingFor(parts, kind)] as const));
  return Object.fromEntries(found) as Record<MemberWayKind, string | null>;
}

/** What an audit entry keeps of a way: no address. */
function kept({ audit }: Parts, row: WayRow): object {
  const { lastSentAt: _s, lastFailure: _f, ...way } = presentWay(row);
  return withheld(way as never, ['name'], audit.fingerprint);
}

/** The gateways of the installation work as those of environments do. */
function gatewayRoutes(parts: Parts): Route[] {
  const own = operations.memberWays;
  const ground = () => parts.directory.installation();
  const audited = { read: (call: Naming<{ gateway: string }>) => orNone(showGateway(parts, ground(), call.params.gateway)) };
  return [
    bind(own.gateways, async () => ({ body: { items: await listGateways(parts, ground()) } })),
    bind(own.addGateway, async (call) => ({ body: await addGateway(parts, ground(), call.body, authorOf(call)) })),
    bind(own.patchGateway, async (call) => ({ body: await changeGateway(parts, ground(), call.params.gateway, call.body) }), audited),
    bind(
      own.removeGateway,
      async (call) => {
        await removeGateway(parts, ground(), call.params.gateway);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.checkGateway, async (call) => ({ body: await checkGateway(parts, ground(), call.params.gateway) })),
  ];
}
