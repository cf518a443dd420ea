import { operations, Problem } from '@orchard/contract';
import { bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { callerOf } from '../users/entry.js';
import { checkWay } from './check.js';
import { OtherAccount } from './meeting.js';
import type { OutsideWays } from './outsideWays.js';
import type { Parts } from './parts.js';
import type { OutsidePerson } from './person.js';
import { changeWays, dropWay, presentWay, storeWay } from './wayKeeping.js';
import { allWays, namedWay, openSecret, sealSecret, type SignInWay, signInWays } from './ways.js';

const NOT_PROVED = 'There is an account with this address already. Sign in to it as before, and confirm its address.';

export function providerRoutes(parts: Parts, outside: OutsideWays): Route[] {
  return [...managedRoutes(parts, outside), ...ownRoutes(parts, outside)];
}

/** Calls of the team. */
function managedRoutes(parts: Parts, outside: OutsideWays): Route[] {
  const own = operations.signInWays;
  const present = (environment: Environment, name: string, way: SignInWay) => presentWay(outside, environment, name, way);
  const audited = {
    read: async (call: { environment: Environment | null; params: { way: string } }) => {
      const environment = environmentOf(call);
      const way = (await allWays(environment)).find(([name]) => name === call.params.way)?.[1];
      return way ? present(environment, call.params.way, way) : null;
    },
  };
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: (await allWays(environment)).map(([name, way]) => present(environment, name, way)) } };
    }),
    bind(
      own.put,
      async (call) => {
        const environment = environmentOf(call);
        const name = call.params.way;
        const way = await storeWay(parts, environment, name, call.body);
        return { body: present(environment, name, way) };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        const environment = environmentOf(call);
        await dropWay(parts, environment, call.params.way);
        return { body: undefined };
      },
      audited,
    ),
    bind(
      own.copy,
      async (call) => {
        const environment = environmentOf(call);
        const name = call.params.way;
        const from = await sourceOf(parts, call, call.body);
        const there = call.body.way ?? name;
        const { secret, key, ...way } = await namedWay(from, there);
        if (Object.hasOwn((await signInWays.read(environment)).ways, name))
          throw new Problem('already-exists', `There is a way \`${name}\` here already. Remove it first, or choose another name.`);
        const known = new Set(await parts.directory.clientNames(environment.id));
        const again = (text: string) => sealSecret(environment, name, openSecret(from, there, text));
        const copy = {
          ...way,
          clients: way.clients.filter((client) => known.has(client)),
          secret: secret === null || secret === undefined ? null : again(secret),
          ...(key ? { key: again(key) } : {}),
        } as SignInWay;
        await changeWays(parts, environment, (ways) => ({ ...ways, [name]: copy }));
        return { body: present(environment, name, copy) };
      },
      audited,
    ),
    bind(own.check, async (call) => {
      const environment = environmentOf(call);
      const way = await namedWay(environment, call.params.way);
      return { body: await checkWay(outside, environment, call.params.way, way, parts.now(), call.body ?? {}) };
    }),
    bind(own.ofUser, async (call) => {
      const { id } = await parts.userStore.named(environmentOf(call), call.params.user);
      return { body: await outside.meeting.list(environmentOf(call), id) };
    }),
  ];
}

/** Where a way is copied from; whoever copies it has to be a maintainer there. @throws {Problem} not-found, access-refused */
async function sourceOf(
  parts: Parts,
  call: Pick<Call, 'member'>,
  { app, environment }: { app: string; environment: string },
): Promise<Environment> {
  const found = await parts.directory.environment(app, environment);
  const role = call.member && (await parts.members.roleIn(call.member, found.id));
  if (role !== 'maintainer' && role !== 'owner')
    throw new Problem('access-refused', `Copying a way with its secret takes a maintainer of ${app}/${environment}.`);
  return found;
}

/** Calls of apps. */
function ownRoutes(parts: Parts, outside: OutsideWays): Route[] {
  const own = operations.signInWays;
  const { userStore, userSessions } = parts;
  const me = (call: Pick<Call, 'environment' | 'user'>) => userStore.named(environmentOf(call), call.user?.id ?? '');
  type Named = { way: SignInWay; person: OutsidePerson };
  const begin = async (call: Pick<Call, 'environment' | 'holder' | 'headers' | 'request'>, name: string, { way, person }: Named) => {
    const environment = environmentOf(call);
    const user = await outside.accountOf(environment, name, way, person).catch((error: Error) => {
      throw error instanceof OtherAccount ? new Problem('already-exists', NOT_PROVED) : error;
    });
    return { body: await userSessions.begin(environment, callerOf(call), user) };
  };
  return [
    bind(own.nonce, async (call) => ({ body: await outside.makeNonce(environmentOf(call), callerOf(call).client, call.body.way) })),
    bind(own.signInByToken, async (call) => {
      const { way, token } = call.body;
      return begin(call, way, await outside.byToken(environmentOf(call), callerOf(call).client, way, token));
    }),
    bind(own.signInAtDirectory, async (call) => {
      const { client, address } = callerOf(call);
      const { way, user, password } = call.body;
      return begin(call, way, await outside.atDirectory(environmentOf(call), client, way, { user, password, address }));
    }),
    bind(own.mine, async (call) => ({ body: await outside.meeting.list(environmentOf(call), call.user?.id ?? '') })),
    bind(own.addMine, async (call) => {
      const environment = environmentOf(call);
      const { client } = callerOf(call);
      const user = await me(call);
      if ('redirectUri' in call.body)
        return {
          body: {
            address: await parts.ports.accountAdding(environment, {
              client,
              userId: user.id,
              way: call.body.way,
              redirectUri: call.body.redirectUri,
            }),
          },
        };
      const { way, person } = await outside.byToken(environment, client, call.body.way, call.body.token);
      await outside.meeting.add(environment, call.body.way, way, person, user);
      return { body: { address: null } };
    }),
    bind(own.removeMine, async (call) => {
      await outside.meeting.remove(environmentOf(call), await me(call), call.params.account);
      return { body: undefined };
    }),
  ];
}
