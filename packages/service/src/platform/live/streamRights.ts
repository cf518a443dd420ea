/**
 * The open streams of this instance, and the rights of their readers. A call's rights are checked once; a stream's
 * repeatedly, so that it ends soon after they do.
 */
import { Problem, type Role } from '@orchard/contract';
import type { Logger } from 'pino';
import { roleReaches } from '../access/memberDirectory.js';
import type { Database } from '../database/connection.js';
import { isDatabaseAway } from '../database/errors.js';
import type { Call, Environment } from '../call.js';
import type { Ports } from '../ports.js';

/** Streams end within twice this time after their rights. */
const LOOK_MS = 2_000;

/** A monitored stream, and what ends it. */
export type Revocable = { endFor: (reason: Problem) => void };
type Grant = Pick<Call, 'holder' | 'user' | 'member' | 'environment' | 'operation'>;
type Open = { stream: Revocable; grant: Grant };

export class StreamRights {
  readonly #open = new Set<Open>();
  #timer: NodeJS.Timeout | null = null;
  #looking = false;

  constructor(
    private readonly database: Database,
    private readonly ports: Pick<Ports, 'goodSessions'>,
    private readonly now: () => number,
    private readonly log: Logger,
  ) {}

  /** @returns a function to call when the stream has ended by itself */
  watch(stream: Revocable, { holder, user, member, environment, operation }: Grant): () => void {
    const open = { stream, grant: { holder, user, member, environment, operation } };
    this.#open.add(open);
    this.#timer ??= setInterval(() => void this.look(), LOOK_MS).unref();
    return () => this.#open.delete(open);
  }

  stop(): void {
    if (this.#timer) clearInterval(this.#timer);
    this.#timer = null;
  }

  /** Ends the streams whose rights have ended. While the database is unavailable all of them continue. */
  async look(): Promise<void> {
    if (this.#looking || this.#open.size === 0) return;
    this.#looking = true;
    try {
      const open = [...this.#open];
      for (const [grant, reason] of [
        ...(await this.#endedKeys(open)),
        ...(await this.#endedUsers(open)),
        ...(await this.#endedMembers(open)),
      ]) {
        this.#open.delete(grant);
        grant.stream.endFor(reason);
      }
    } catch (error) {
      if (!isDatabaseAway(error)) this.log.error({ err: error }, 'the rights of open streams could not be checked');
    } finally {
      this.#looking = false;
    }
  }

  async #endedKeys(open: readonly Open[]): Promise<[Open, Problem][]> {
    const ids = unique(open.map(({ grant }) => grant.holder?.key.id));
    if (ids.length === 0) return [];
    const rows = await this.database.runRows<{ id: string; environmentId: string; movedTo: string | null }>(
      'SELECT k.id, k.environmentId, e.movedTo FROM `keys` k JOIN environments e ON e.id = k.environmentId WHERE k.id IN (?) AND k.revokedAt IS NULL',
      [ids],
    );
    const good = new Map(rows.map(({ id, environmentId, movedTo }) => [id, movedTo === null ? environmentId : 'another installation']));
    return open.flatMap((one): [Open, Problem][] => {
      const { holder } = one.grant;
      const leadsTo = holder && good.get(holder.key.id);
      if (!holder || leadsTo === holder.environment.id) return [];
      return leadsTo
        ? [[one, new Problem('session-ended', 'The environment was restored from a backup, or has moved. Open the stream again.')]]
        : [[one, new Problem('key-revoked', 'The key of this stream was revoked.')]];
    });
  }

  async #endedUsers(open: readonly Open[]): Promise<[Open, Problem][]> {
    const ended: [Open, Problem][] = [];
    for (const id of unique(open.map(({ grant }) => (grant.user ? grant.environment?.id : undefined)))) {
      const theirs = open.filter(({ grant }) => grant.user && grant.environment?.id === id);
      const now = await this.ports.goodSessions(
        theirs[0]?.grant.environment as Environment,
        unique(theirs.map(({ grant }) => grant.user?.sessionId)),
      );
      for (const one of theirs) {
        const { sessionId, roles, fields } = one.grant.user as NonNullable<Grant['user']>;
        const present = now.get(sessionId);
        if (!present)
          ended.push([one, new Problem('session-ended', 'The session of this stream has ended, or its user may not sign in any more.')]);
        else if (JSON.stringify([present.roles, present.fields]) !== JSON.stringify([roles, fields]))
          ended.push([one, new Problem('session-ended', 'The roles or fields of the user have changed. Open the stream again.')]);
      }
    }
    return ended;
  }

  async #endedMembers(open: readonly Open[]): Promise<[Open, Problem][]> {
    const theirs = open.filter(({ grant }) => grant.member);
    if (theirs.length === 0) return [];
    const hashes = unique(theirs.map(({ grant }) => grant.member?.tokenHash));
    const now = new Date(this.now());
    const sessions = await this.database.runRows<{ tokenHash: string; owner: number }>(
      `SELECT s.tokenHash, m.owner FROM memberSessions s JOIN members m ON m.id = s.memberId WHERE s.tokenHash IN (?) AND s.expiresAt > ?
       UNION ALL SELECT hash, FALSE FROM automationTokens WHERE hash IN (?) AND expiresAt > ? AND revokedAt IS NULL`,
      [hashes, now, hashes, now],
    );
    const ids = unique(theirs.map(({ grant }) => grant.member?.id));
    const roles = await this.database.runRows<{ memberId: string; environmentId: string; role: Role }>(
      `SELECT memberId, environmentId, role FROM memberRoles WHERE memberId IN (?)
       UNION ALL SELECT tokenId, environmentId, role FROM automationTokenRoles WHERE tokenId IN (?)`,
      [ids, ids],
    );
    const owners = new Map(sessions.map(({ tokenHash, owner }) => [tokenHash, Boolean(owner)]));
    const roleOf = new Map(roles.map(({ memberId, environmentId, role }) => [`${memberId} ${environmentId}`, role]));
    return theirs.flatMap((one): [Open, Problem][] => {
      const { member, environment, operation } = one.grant;
      const owner = owners.get(member?.tokenHash ?? '');
      if (owner === undefined) return [[one, new Problem('member-sign-in-needed', 'Your session has ended.')]];
      const role = owner ? 'owner' : roleOf.get(`${member?.id} ${environment?.id}`);
      const needed = operation.caller.kind === 'member' ? operation.caller.role : 'viewer';
      if (environment && (!role || !roleReaches(role, needed)))
        return [[one, new Problem('role-insufficient', `You no longer have a role that may read ${environment.app}/${environment.name}.`)]];
      return [];
    });
  }
}

const unique = (texts: readonly (string | undefined)[]): string[] => [
  ...new Set(texts.filter((text): text is string => text !== undefined)),
];
