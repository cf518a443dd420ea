/** Who did something: one value everywhere, in history, authorship, messages and records of what was done. */

export const ACTOR_KINDS = ['member', 'token', 'user', 'client', 'server', 'function', 'service'] as const;
export type ActorKind = (typeof ACTOR_KINDS)[number];

/**
 * A member, automation token or user by id; an app by its client; a backend by `client/key`; a function by name; or the service itself,
 * which has no id.
 */
export type Actor = { kind: ActorKind; id: string | null };

export const THE_SERVICE: Actor = { kind: 'service', id: null };

/** The actor as it is stored: `member:0190…`, `server:weather-office/nightly`, `service`. */
export const writeActor = ({ kind, id }: Actor): string => (id === null ? kind : `${kind}:${id}`);

/** Forms in which earlier versions stored actors; members stood in them with their mail addresses. */
const FORMER: [RegExp, (found: RegExpExecArray) => Actor][] = [
  [/^key:(.+)$/, ([, id]) => ({ kind: 'server', id: id as string })],
  [/^server key (.+) of ([a-z0-9-]+)$/, ([, key, client]) => ({ kind: 'server', id: `${client}/${key}` })],
  [/^client key .+ of ([a-z0-9-]+)$/, ([, client]) => ({ kind: 'client', id: client as string })],
  [/^user ([0-9a-f-]{36})$/, ([, id]) => ({ kind: 'user', id: id as string })],
  [/^([^\s:]+@[^\s:]+)$/, ([, address]) => ({ kind: 'member', id: address as string })],
];

/** Reads what {@link writeActor} or an earlier version wrote. A text without an actor was the service. */
export function readActor(text: string): Actor {
  const colon = text.indexOf(':');
  const kind = colon < 0 ? text : text.slice(0, colon);
  if (kind !== 'service' && (ACTOR_KINDS as readonly string[]).includes(kind) && colon > 0)
    return { kind: kind as ActorKind, id: text.slice(colon + 1) || null };
  for (const [form, read] of FORMER) {
    const found = form.exec(text);
    if (found) return read(found);
  }
  return THE_SERVICE;
}
