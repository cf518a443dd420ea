import type { Capability } from '../../platform/capability.js';
import { OutsideDirectory } from './directory.js';
import { followOutside } from './following.js';
import { OutsideManaging } from './managing.js';
import type { Parts } from './parts.js';
import { outsideRoutes } from './routes.js';

export function outside(parts: Parts): Capability {
  const directory = new OutsideDirectory(parts);
  const managing = new OutsideManaging(parts, directory);
  parts.collectionPorts.elsewhere = async (environment) =>
    [...(await directory.tables(environment)).values()].map((table) => table.document());
  parts.collectionPorts.changeElsewhere = (environment, name, changes) => managing.changeElsewhere(environment, name, changes);
  parts.recordPorts.elsewhere = async (environment, collection) => {
    const rows = await directory.rows(environment, collection);
    return (
      rows && {
        read: (id, author, request) => rows.read(id, author, request),
        list: (request, author) => rows.list(request, author),
        summarise: (request, author) => rows.summarise(request, author),
        create: (body, author) => rows.create(body, author),
        put: (id, body, expected, author) => rows.put(id, body, expected, author),
        patch: (id, body, expected, author) => rows.patch(id, body, expected, author),
        remove: (id, expected, author) => rows.remove(id, expected, author),
        live: (author, watched) => followOutside(parts, rows, author, watched),
        refuse: (what) => rows.table.refuse(what),
      }
    );
  };
  return {
    name: 'outside tables',
    routes: outsideRoutes(parts, directory),
    forget: (environment) => directory.forget(environment),
    stop: () => directory.close(),
  };
}
