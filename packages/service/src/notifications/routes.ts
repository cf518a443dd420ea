import { type NewNotification, type Notification, operations, Problem } from '@orchard/contract';
import { composeMessage, MAX_MESSAGE_BYTES } from '@orchard/core';
import { DeviceStore } from '../devices/store.js';
import { authorOf, bind, type Call, type Environment, environmentOf, type Route } from '../http/call.js';
import type { Parts } from '../parts.js';
import { UserStore } from '../users/store.js';
import { SEND_JOB, sendingWorker } from './sending.js';
import { NotificationStore } from './store.js';

export function notificationRoutes(parts: Parts): Route[] {
  const store = new NotificationStore(parts.database);
  const devices = new DeviceStore(parts.database);
  const users = new UserStore(parts.database);
  const own = operations.notifications;
  parts.jobs.on(SEND_JOB, sendingWorker(parts, store));

  async function notificationNamed(environment: Environment, id: string): Promise<Notification> {
    const found = await store.find(environment, id);
    if (!found) throw new Problem('not-found', `There is no notification ${id} in ${environment.app}/${environment.name}.`);
    return found;
  }
  async function demandAudience(environment: Environment, audience: NewNotification['audience']): Promise<void> {
    if ('user' in audience && !(await users.find(environment, audience.user)))
      throw new Problem('not-found', `There is no user ${audience.user} in ${environment.app}/${environment.name}.`);
    if ('device' in audience && !(await devices.find(environment, audience.device)))
      throw new Problem('not-found', `There is no device ${audience.device} in ${environment.app}/${environment.name}.`);
  }
  async function send(call: Pick<Call, 'environment' | 'member' | 'holder'> & { body: NewNotification }) {
    const environment = environmentOf(call);
    const { audience, urgency, ttlS, replaces, ...content } = call.body;
    const createdAt = new Date(parts.now());
    const id = parts.newId();
    const bytes = composeMessage(id, createdAt.toISOString(), content).length;
    if (bytes > MAX_MESSAGE_BYTES) {
      throw new Problem(
        'message-too-large',
        `The notification takes ${bytes} bytes as JSON; at most ${MAX_MESSAGE_BYTES} go through a push network. Shorten body or data.`,
      );
    }
    await demandAudience(environment, audience);
    const row = {
      id,
      content: content as never,
      audience: audience as never,
      urgency,
      ttlS,
      replaces: replaces ?? null,
      createdBy: authorOf(call),
      createdAt,
    };
    await store.insert(environment, row, parts.jobs.insert(SEND_JOB, environment.id, id));
    void parts.jobs.look();
    return { body: await notificationNamed(environment, id) };
  }
  async function deliveries(
    call: Pick<Call, 'environment'> & { params: { id: string }; query: Parameters<NotificationStore['deliveries']>[2] },
  ) {
    await notificationNamed(environmentOf(call), call.params.id);
    return { body: await store.deliveries(environmentOf(call), call.params.id, call.query, parts) };
  }

  return [
    bind(own.send, send),
    bind(own.sendManaged, send),
    bind(own.read, async (call) => ({ body: await notificationNamed(environmentOf(call), call.params.id) })),
    bind(own.readManaged, async (call) => ({ body: await notificationNamed(environmentOf(call), call.params.id) })),
    bind(own.deliveries, deliveries),
    bind(own.deliveriesManaged, deliveries),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
  ];
}
