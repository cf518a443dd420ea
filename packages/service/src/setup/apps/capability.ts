import type { Capability } from '../../platform/capability.js';
import { recordBlockedOrigin } from './blockedOriginStore.js';
import type { Parts } from './parts.js';
import { appRoutes } from './routes.js';
import { AppStore } from './store.js';

export function apps(parts: Parts): Capability {
  parts.ports.noteBlockedOrigin = (...blocked) => recordBlockedOrigin(parts, ...blocked);
  const store = new AppStore(parts);
  return {
    name: 'apps',
    routes: appRoutes(parts),
    onEveryInstance: [{ work: 'note the use of keys', everyMs: 5_000, run: () => store.noteUse(parts.directory.takeUsedKeys()) }],
  };
}
