import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { topicRoutes } from './routes.js';
import { TopicStore } from './store.js';

export function topics(parts: Parts): Capability {
  const store = new TopicStore();
  parts.ports.deviceRemoved = (on, environment, id) => store.forget(on, environment, { kind: 'device', id });
  return {
    name: 'topics',
    routes: topicRoutes(parts),
    dataOfUser: async (environment, userId) => ({
      topics: (await store.followedBy(environment, null, userId)).map(({ topic, at }) => ({ topic, at })),
    }),
    onUserRemoved: ({ on, environment, userId }) => store.forget(on, environment, { kind: 'user', id: userId }),
  };
}
