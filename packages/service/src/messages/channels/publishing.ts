/** Publishing on a channel, and the notification to followers who do not listen. */
import { type operations, Problem } from '@orchard/contract';
import { authorOf, type Call, environmentOf } from '../../platform/call.js';
import { prepareNotification } from '../notifications/making.js';
import type { Parts } from './parts.js';
import type { AppCall } from './rules.js';
import type { ChannelRow, ChannelStore } from './store.js';

type PublishCall = AppCall & Pick<Call<typeof operations.channels.publish>, 'body' | 'trace'>;
type Notify = NonNullable<PublishCall['body']['notify']>;

export async function publish(parts: Parts, store: ChannelStore, call: PublishCall, channel: ChannelRow) {
  const environment = environmentOf(call);
  const { data, notify } = call.body;
  // If the notification cannot be sent, the message is not published.
  const notifyOthers = notify ? await prepareFor(parts, call, channel.name, notify) : null;
  const message = await store.add(environment, channel, data, authorOf(call), new Date(parts.now()));
  parts.changes.wake(environment.id);
  await notifyOthers?.();
  return message;
}

/** Followers of the topic of the same name who do not listen get it as a notification; an empty audience is not a failure. */
async function prepareFor(parts: Parts, call: PublishCall, name: string, notify: Notify): Promise<() => Promise<void>> {
  const audience = { topics: { any: [name] }, notListening: name };
  const send = await prepareNotification(
    parts,
    environmentOf(call),
    { ...notify, audience },
    { createdBy: authorOf(call), trace: call.trace.traceId },
  ).catch((error: unknown) => {
    throw error instanceof Problem ? under('body.notify', error) : error;
  });
  return async () => {
    try {
      await send();
    } catch (error) {
      if (!(error instanceof Problem) || error.problem !== 'audience-empty') throw error;
    }
  };
}

/** A problem in a part of the body, with the path of that part. */
function under(path: string, { problem, detail, extras }: Problem): Problem {
  const fields = extras.fields?.map((field) => ({ ...field, path: field.path.replace(/^body/, path) }));
  return new Problem(problem, detail, { ...extras, ...(fields ? { fields } : {}) });
}
