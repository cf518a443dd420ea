/** Audits the calls of members and tokens: by the kind of thing that the operation says it changes. */
import { type AnyOperation, type AuditKind, ENVIRONMENT_PATH } from '@orchard/contract';
import type { Answer, Audited, Call, Route } from '../call.js';
import type { Platform } from '../platform.js';
import { originOf } from './audit.js';

type Reply = Answer<unknown> | 'streaming';

/** Kinds whose names are personal or not unique: an entry names them by id. */
const BY_ID: ReadonlySet<AuditKind> = new Set(['key', 'user', 'member', 'notification', 'token', 'record', 'device', 'job']);

/** Runs the handler of a call; a change by a member or token gets its entry. */
export function handle(route: Route, call: Call, parts: Pick<Platform, 'audit'>): Promise<Reply> {
  const { changes } = call.operation;
  const { audited = {} } = route;
  if (!call.member || !changes || changes === 'nothing' || audited.as === 'own') return route.handle(call);
  const { read } = audited;
  const origin = originOf(call);
  const watched = {
    kind: changes,
    action: call.operation.id,
    subject: (reply: Reply) => subjectOf(call, changes, audited, reply),
    ...(read ? { read: () => read(call) } : {}),
    ...(read && !audited.after ? {} : { after: (reply: Reply) => afterOf(call, audited, reply) }),
  };
  const change = () => route.handle(call);
  if (audited.as === 'apart') {
    const asked = call.body ?? call.query;
    return parts.audit.accompany(origin, { ...watched, asked, begunSubject: subjectOf(call, changes, audited, null) }, change);
  }
  return parts.audit.watch(origin, watched, change);
}

function afterOf(call: Call, { after }: Audited<AnyOperation>, reply: Reply): unknown {
  if (reply === 'streaming') return null;
  return after ? after(reply.body as never, call) : (reply.body ?? null);
}

/** The parameters of the path below its environment; for something new also its own name or id. */
function subjectOf(call: Call, kind: AuditKind, { subject }: Audited<AnyOperation>, reply: Reply | null): string {
  if (subject) return subject(call);
  const { path, status } = call.operation;
  const { app, environment, ...below } = call.params as Record<string, string>;
  const isWithin = path.startsWith(`${ENVIRONMENT_PATH}/`);
  const named = [...(isWithin ? [] : [app, environment]), ...Object.values(below)].filter((part) => part !== undefined);
  const isNew = (status === 201 || status === 202) && !path.endsWith('}');
  const made = isNew && reply && reply !== 'streaming' ? (reply.body as Record<string, string>) : null;
  const own = made && (BY_ID.has(kind) ? made.id : (made.name ?? made.id));
  return [...named, ...(own && !named.includes(own) ? [own] : [])].join('/');
}
