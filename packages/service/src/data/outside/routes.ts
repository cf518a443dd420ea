import { operations, type OutsideServer } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf, bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { OutsideDirectory } from './directory.js';
import { OutsideManaging } from './managing.js';
import type { Parts } from './parts.js';

export function outsideRoutes(parts: Parts, directory: OutsideDirectory): Route[] {
  const own = operations.outside;
  const managing = new OutsideManaging(parts, directory);
  const brief = ({ check: _c, ...server }: OutsideServer) => server;
  const ofServer = {
    read: async (call: Naming<{ server: string }>) => {
      const row = await orNone(managing.server(environmentOf(call), call.params.server));
      return row && brief(managing.present(row));
    },
  };
  const ofTable = {
    as: 'apart' as const,
    read: async (call: Naming<{ collection: string }>) => {
      const table = await orNone(managing.table(environmentOf(call), call.params.collection));
      return table && { ...table.facts, readiness: undefined, checkedAt: undefined, rules: table.rules };
    },
  };
  return [
    bind(own.servers, async (call) => ({
      body: { items: (await directory.store.servers(environmentOf(call))).map((row) => managing.present(row)) },
    })),
    bind(own.addServer, async (call) => ({ body: await managing.addServer(environmentOf(call), call.body) })),
    bind(
      own.changeServer,
      async (call) => ({ body: await managing.changeServer(environmentOf(call), call.params.server, call.body) }),
      ofServer,
    ),
    bind(
      own.removeServer,
      async (call) => {
        await managing.removeServer(environmentOf(call), call.params.server);
        return { body: undefined };
      },
      ofServer,
    ),
    bind(own.checkServer, async (call) => ({ body: await managing.checkServer(environmentOf(call), call.params.server) })),
    bind(own.seen, async (call) => ({ body: { items: await managing.seen(environmentOf(call), call.params.server) } })),
    bind(
      own.addTable,
      async (call) => {
        const { collection, isNew } = await managing.putTable(environmentOf(call), call.params.collection, call.body, authorOf(call));
        return { body: collection, status: isNew ? 201 : 200 };
      },
      ofTable,
    ),
    bind(
      own.removeTable,
      async (call) => {
        await managing.removeTable(environmentOf(call), call.params.collection);
        return { body: undefined };
      },
      ofTable,
    ),
    bind(own.checkTable, async (call) => ({ body: await managing.checkTable(environmentOf(call), call.params.collection) })),
  ];
}
