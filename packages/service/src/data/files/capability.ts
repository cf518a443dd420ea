import type { Capability } from '../../platform/capability.js';
import { deleteWithRecord, filesOfUser } from './belonging.js';
import { openFiles } from './filesRoom.js';
import type { FilesOffer } from './offer.js';
import type { Parts } from './parts.js';
import { filesForFunctions } from './reaching.js';
import { fileRoutes, managedFileRoutes } from './routes.js';

const HOUR_MS = 3_600_000;

export function files(parts: Parts): Capability<FilesOffer> {
  const room = openFiles(parts);
  parts.functionPorts.files = filesForFunctions(room);
  parts.recordPorts.gone = deleteWithRecord(room);
  return {
    name: 'files',
    offer: { contents: room.contents, fileReading: room.reading, fileStoring: room.storing, fileChanges: room.changes },
    routes: [...fileRoutes(room), ...managedFileRoutes(room)],
    forget: (environment) => room.folders.forget(environment),
    dataOfUser: (environment, userId) => filesOfUser(room, environment, userId),
    onEnvironmentRemoved: ({ id }) => room.contents.bytes.forgetAll(id),
    recurring: [{ work: 'tend files', everyMs: HOUR_MS, eachEnvironment: (environment) => room.contents.tend(environment) }],
  };
}
