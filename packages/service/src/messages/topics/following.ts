/** Which topics a device or user may follow. */
import { Problem } from '@orchard/contract';
import { nearest } from '@orchard/core';
import { authorOf, type Call, environmentOf } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { type Follower, TopicStore } from './store.js';

/**
 * Makes a device or user follow a topic. In an open environment the first follower creates a topic; only users with its role
 * may follow one that has a role.
 * @throws {Problem} not-found, access-refused
 */
export async function follow(
  parts: Parts,
  call: Pick<Call, 'environment' | 'holder' | 'member' | 'user'>,
  name: string,
  follower: Follower,
): Promise<void> {
  const store = new TopicStore();
  const environment = environmentOf(call);
  const topic = await store.find(environment, name);
  if (!topic) {
    if (environment.mode === 'closed') {
      const hint = nearest(name, await store.names(environment));
      throw new Problem(
        'not-found',
        `There is no topic ${name} in ${environment.app}/${environment.name}, which is closed${hint || '.'} Create it with \`orchard topic add ${name}\`.`,
      );
    }
    await store.ensure(environment, name, authorOf(call), new Date(parts.now()));
  } else if (topic.role && call.holder?.key.kind !== 'server' && !call.user?.roles.includes(topic.role))
    throw new Problem(
      'access-refused',
      `The topic ${name} is for users with the role ${topic.role}${call.user ? '' : ', and nobody is signed in'}.`,
    );
  await store.follow(environment, name, [follower], new Date(parts.now()));
}
