import { operations } from '@orchard/contract';
import { writeActor } from '@orchard/core';
import { bind, type Call, type Naming, type Route, type SignedInMember } from '../../platform/call.js';
import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { TokenStore } from './store.js';
import { Tokens } from './tokens.js';

export function tokens(platform: Platform): Capability {
  const store = new TokenStore(platform.database);
  // What a member created for scripts would otherwise outlive the member's rights.
  platform.ports.memberRemoved = async (memberId) => {
    const now = new Date(platform.now());
    for (const { id } of await store.workingOf(writeActor({ kind: 'member', id: memberId }))) await store.revoke(id, now);
  };
  return { name: 'tokens', routes: tokenRoutes(platform) };
}

function tokenRoutes(platform: Platform): Route[] {
  const own = operations.tokens;
  const all = new Tokens(platform);
  const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;
  return [
    bind(own.list, async (call) => ({ body: { items: await all.visibleTo(memberOf(call)) } })),
    bind(own.create, async (call) => ({ body: await all.create({ ...(call as Call), member: memberOf(call) }, call.body) }), {
      after: ({ token: _, ...kept }) => kept,
    }),
    bind(
      own.revoke,
      async (call) => {
        await all.revoke(memberOf(call), call.params.token);
        return { body: undefined };
      },
      { read: (call: Naming<{ token: string }>) => all.find(call.params.token) },
    ),
  ];
}
