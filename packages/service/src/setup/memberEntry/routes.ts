import { type MemberEntryWay, operations, Problem } from '@orchard/contract';
import { own as ownMember } from '@orchard/core';
import { checkWay } from '../../people/providers/check.js';
import type { OutsideWays } from '../../people/providers/outsideWays.js';
import { dropWay, presentWay, storeWay } from '../../people/providers/wayKeeping.js';
import { allWays, isVisited, namedWay } from '../../people/providers/ways.js';
import { bind, type Route } from '../../platform/call.js';
import type { ConsoleEntry } from './console.js';
import { type GroupRoles, memberGroups } from './entry.js';
import type { Parts } from './parts.js';

export function memberEntryRoutes(parts: Parts, outside: OutsideWays, entry: ConsoleEntry): Route[] {
  const own = operations.memberEntry;
  const here = () => parts.directory.installation();
  const list = async (): Promise<MemberEntryWay[]> => {
    const { groups } = await memberGroups.read(here());
    return (await allWays(here())).map(([name, way]) => ({
      way: presentWay(outside, here(), name, way),
      groups: ownMember(groups, name) ?? {},
    }));
  };
  const named = async (name: string) => (await list()).find(({ way }) => way.name === name) ?? null;
  const keepGroups = async (name: string, of: GroupRoles | null) => {
    memberGroups.forget(here());
    const { [name]: _before, ...others } = (await memberGroups.read(here())).groups;
    await memberGroups.write(here(), { groups: of ? { ...others, [name]: of } : others }, new Date(parts.now()));
  };
  const audited = {
    subject: (call: { params: { way: string } }) => `sign-in at ${call.params.way}`,
    read: (call: { params: { way: string } }) => named(call.params.way),
  };
  return [
    bind(own.offered, async () => {
      const ways = (await allWays(here())).filter(([, way]) => isVisited(way) || way.kind === 'directory');
      return { body: { items: ways.map(([name, { title, kind }]) => ({ name, title, isDirectory: kind === 'directory' })) } };
    }),
    bind(own.list, async () => ({ body: { items: await list() } })),
    bind(
      own.put,
      async (call) => {
        const { way, groups } = call.body;
        if (way.kind === 'tokens')
          throw new Problem('invalid-input', 'Members sign in at providers and directories. For scripts there are automation tokens.');
        for (const { app, environment } of Object.values(groups).flat()) await parts.directory.environment(app, environment);
        await storeWay(parts, here(), call.params.way, way);
        await keepGroups(call.params.way, groups);
        return { body: (await named(call.params.way)) as MemberEntryWay };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        await dropWay(parts, here(), call.params.way);
        await keepGroups(call.params.way, null);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.check, async (call) => {
      const way = await namedWay(here(), call.params.way);
      return { body: await checkWay(outside, here(), call.params.way, way, parts.now(), call.body) };
    }),
    bind(own.atDirectory, async (call) => ({ body: await entry.atDirectory(call, call.body) })),
    bind(own.finish, async (call) => ({ body: await entry.finish(call, call.body) })),
    bind(own.there, (call) => entry.there(call, call.params.way)),
    bind(own.back, (call) => entry.back(call, call.params.way)),
    bind(own.posted, (call) => entry.posted(call, call.params.way)),
    bind(own.metadata, async (call) => {
      const { way: name } = call.params;
      const way = await namedWay(here(), name);
      if (way.kind !== 'saml') throw new Problem('not-found', `The way ${name} is not by SAML.`);
      const xml = outside.saml.metadata(here(), name, way, outside.samlGround(here(), name));
      call.response.status(200).setHeader('content-type', 'application/samlmetadata+xml');
      call.response.end(xml);
      return 'streaming';
    }),
  ];
}
