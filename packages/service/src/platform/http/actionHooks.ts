/** Functions of the team before and after calls that concern no record: which calls, and what of them, the contract says. */
import { Problem } from '@orchard/contract';
import { isPlainObject, type JsonObject } from '@orchard/core';
import type { Answer, Call, Route } from '../call.js';
import { environmentOf } from '../call.js';
import type { Platform } from '../platform.js';
import type { ActionBy, HookedAction } from '../ports.js';
import { validateBody } from './validate.js';

type Ground = Pick<Platform, 'ports' | 'jobs'>;
type Reply = Answer<unknown> | 'streaming';
/** What no function sees or changes. */
const WITHHELD = new Set(['password', 'secret', 'code', 'token', 'pushAddress', 'subscription']);

const shown = (value: unknown): JsonObject =>
  isPlainObject(value) ? (Object.fromEntries(Object.entries(value).filter(([name]) => !WITHHELD.has(name))) as JsonObject) : {};

const byOf = ({ holder, user, member, id, trace }: Call): ActionBy => ({
  kind: member || holder?.key.kind === 'server' ? 'server' : user ? 'user' : 'client',
  userId: user?.id ?? null,
  roles: user?.roles ?? [],
  request: id,
  trace: trace.traceId,
});

function actionOf(call: Call, value: JsonObject): HookedAction {
  const { subject, action, id } = call.operation.hooked as NonNullable<Call['operation']['hooked']>;
  const named = id === 'caller' ? call.user?.id : id ? (call.params as Record<string, string>)[id] : value.id;
  return { subject, action, id: typeof named === 'string' ? named : null, value };
}

/** Asks hooks before an action, which may change what was sent. @throws {Problem} refused-by-function, function-failed, function-stopped */
export async function askHooks(call: Call, { ports }: Ground): Promise<void> {
  if (!call.operation.hooked || !call.environment) return;
  const sent = shown(call.body);
  const changed = await ports.hooks.before(environmentOf(call), byOf(call), actionOf(call, sent));
  if (changed === sent || !call.operation.body) return;
  try {
    call.body = validateBody(call.operation, { ...(call.body as object), ...shown(changed) }) as never;
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    throw new Problem('function-failed', 'A function of the team changed this into something that cannot be.', {
      teamDetail: error.detail,
    });
  }
}

/** A route whose action may have hooks after it. */
export const hookedRoute = (route: Route, parts: Ground): Route =>
  route.operation.hooked ? { ...route, handle: (call) => withHooks(route, call, parts) } : route;

/** Does the action; what follows from it is added in the same unit of work. */
async function withHooks(route: Route, call: Call, { ports, jobs }: Ground): Promise<Reply> {
  const { hooked } = call.operation;
  if (!hooked || !call.environment || !(await ports.hooks.follows(call.environment, hooked.subject, hooked.action)))
    return route.handle(call);
  const environment = call.environment;
  const reply = await environment.db.unit(async () => {
    const answer = await route.handle(call);
    if (answer !== 'streaming')
      await ports.hooks.after(environment.db, environment, byOf(call), actionOf(call, valueDone(call, answer.body)));
    return answer;
  });
  await jobs.wake(environment);
  return reply;
}

function valueDone(call: Call, reply: unknown): JsonObject {
  const { value } = call.operation.hooked as NonNullable<Call['operation']['hooked']>;
  if (value === 'body') return shown(call.body);
  return shown(value === 'reply' ? reply : (reply as Record<string, unknown>)[value.reply]);
}
