/** How a member can be reached: adding, verifying and changing ways. */
import { type MemberWay, type MemberWayKind, type operations, type BodyOf, Problem } from '@orchard/contract';
import { createHmac, timingSafeEqual } from 'node:crypto';
import { demandPhone } from '../../messages/gateways/numbers.js';
import { deriveKey } from '../../platform/access/secrets.js';
import type { Parts } from './parts.js';
import { missingFor, sendTo } from './sending.js';
import { type WayRow, WayStore } from './store.js';

type NewWay = BodyOf<typeof operations.memberWays.add>;
type Changes = BodyOf<typeof operations.memberWays.patch>;

const CODE_MS = 10 * 60_000;
const MOST_TRIES = 5;
const MOST_WAYS = 20;
const AGAIN_AFTER_MS = 30_000;

export const presentWay = (row: WayRow): MemberWay => ({
  id: row.id,
  kind: row.kind as MemberWayKind,
  name: row.name,
  verified: row.verifiedAt !== null,
  quiet: row.quietFrom && row.quietUntil ? { from: row.quietFrom, to: row.quietUntil } : null,
  timeZone: row.timeZone,
  urgentAnyway: row.urgentAnyway,
  lastSentAt: row.lastSentAt?.toISOString() ?? null,
  lastFailure: row.lastFailure,
  createdAt: row.createdAt.toISOString(),
});

export class Ways {
  readonly store: WayStore;

  constructor(private readonly parts: Parts) {
    this.store = new WayStore(parts.database);
  }

  /** @throws {Problem} not-found, also for a way of another member */
  async named(memberId: string, id: string): Promise<WayRow> {
    const row = await this.store.find(id);
    if (row?.memberId !== memberId) throw new Problem('not-found', `You have no way ${id}. \`orchard way list\` lists them.`);
    return row;
  }

  /** Adds a way, or sends the code again. @throws {Problem} gateway-missing, rate-exceeded, invalid-input, already-exists */
  async add(memberId: string, way: NewWay): Promise<MemberWay> {
    const row = await this.#rowOf(memberId, way);
    const before = (await this.store.ofMember(memberId)).find((one) => one.kind === row.kind && one.address === row.address);
    if (before?.verifiedAt && row.kind !== 'browser') throw new Problem('already-exists', `${row.name} is verified already.`);
    await this.#demandRoom(memberId);
    const kept = before ? { ...before, ...(row.kind === 'browser' ? pick(row) : {}) } : row;
    const coded = kept.kind === 'browser' ? kept : await this.#withCode(kept);
    if (before) await this.store.update(before.id, coded);
    else await this.store.add(coded);
    return presentWay(coded);
  }

  async #demandRoom(memberId: string): Promise<void> {
    if ((await this.store.ofMember(memberId)).length >= MOST_WAYS)
      throw new Problem('invalid-input', `You have ${MOST_WAYS} ways already. Remove one first.`, {
        fields: [{ path: 'body', problem: 'There are too many ways.', expected: `at most ${MOST_WAYS}` }],
      });
  }

  async #rowOf(memberId: string, way: NewWay): Promise<WayRow> {
    const { parts } = this;
    const now = new Date(parts.now());
    const common = {
      id: parts.newId(),
      memberId,
      kind: way.kind,
      p256dh: null,
      auth: null,
      pushKey: null,
      verifiedAt: null,
      codeHash: null,
      codeExpiresAt: null,
      codeAttempts: 0,
      quietFrom: null,
      quietUntil: null,
      timeZone: way.timeZone ?? 'UTC',
      urgentAnyway: true,
      createdAt: now,
      lastSentAt: null,
      lastFailure: null,
    };
    if (way.kind === 'mail') return { ...common, name: way.address, address: way.address };
    if (way.kind === 'sms') {
      const { number } = demandPhone(way.number, 'body.number');
      return { ...common, name: number, address: number };
    }
    const { endpoint, keys } = way.subscription;
    parts.webPush.demandAllowed(endpoint);
    const pushKey = await parts.webPush.keyIdOf(parts.directory.installation(), way.pushKey);
    // The browser asked its person; the subscription itself is the proof.
    return { ...common, name: way.name, address: endpoint, p256dh: keys.p256dh, auth: keys.auth, pushKey, verifiedAt: now };
  }

  /** Sends a fresh code to the address. @throws {Problem} gateway-missing, rate-exceeded */
  async #withCode(row: WayRow): Promise<WayRow> {
    const { parts } = this;
    const kind = row.kind as MemberWayKind;
    const missing = await missingFor(parts, kind);
    if (missing) throw new Problem('gateway-missing', missing);
    const now = parts.now();
    const sentAt = row.codeExpiresAt ? row.codeExpiresAt.getTime() - CODE_MS : 0;
    const waitMs = sentAt + AGAIN_AFTER_MS - now;
    if (waitMs > 0) {
      const retryAfterS = Math.ceil(waitMs / 1000);
      throw new Problem('rate-exceeded', `A code was sent a moment ago. Wait ${retryAfterS} s before another one.`, { retryAfterS });
    }
    const code = String(parts.random(4).readUInt32BE() % 1_000_000).padStart(6, '0');
    const said = {
      id: parts.newId(),
      title: `Your code is ${code}`,
      body: 'Enter it in Vivid Orchard within ten minutes.',
      link: null,
      urgent: true,
    };
    const outcome = await sendTo(parts, row, said);
    if (outcome.kind !== 'accepted') throw new Problem('gateway-missing', `The code could not be sent to ${row.name}: ${outcome.reason}`);
    return { ...row, codeHash: this.#hash(row.id, code), codeExpiresAt: new Date(now + CODE_MS), codeAttempts: 0 };
  }

  #hash(wayId: string, code: string): string {
    return createHmac('sha256', deriveKey(this.parts.secretKey, 'codes of members')).update(`${wayId} ${code}`).digest('hex');
  }

  /** @throws {Problem} not-found, wrong-state, code-refused */
  async verify(memberId: string, id: string, code: string): Promise<MemberWay> {
    const row = await this.named(memberId, id);
    if (row.verifiedAt) throw new Problem('wrong-state', `${row.name} is verified already.`);
    const isOpen = row.codeHash !== null && row.codeExpiresAt !== null && row.codeExpiresAt.getTime() > this.parts.now();
    if (!isOpen || row.codeAttempts >= MOST_TRIES)
      throw new Problem('code-refused', 'The code has expired or was tried too often. Ask for another one.');
    if (!isSame(row.codeHash as string, this.#hash(row.id, code.replace(/\s/g, '')))) {
      await this.store.update(row.id, { codeAttempts: row.codeAttempts + 1 });
      throw new Problem('code-refused', `The code is wrong. ${MOST_TRIES - row.codeAttempts - 1} attempts are left.`);
    }
    const verified = { ...row, verifiedAt: new Date(this.parts.now()), codeHash: null, codeExpiresAt: null };
    await this.store.update(row.id, verified);
    return presentWay(verified);
  }

  /** @throws {Problem} not-found */
  async change(memberId: string, id: string, { quiet, timeZone, urgentAnyway }: Changes): Promise<MemberWay> {
    const row = await this.named(memberId, id);
    const changed = {
      ...row,
      ...(quiet === undefined ? {} : { quietFrom: quiet?.from ?? null, quietUntil: quiet?.to ?? null }),
      ...(timeZone === undefined ? {} : { timeZone }),
      ...(urgentAnyway === undefined ? {} : { urgentAnyway }),
    };
    await this.store.update(row.id, changed);
    return presentWay(changed);
  }
}

/** What a browser that subscribes again brings. */
const pick = ({ name, p256dh, auth, pushKey, verifiedAt }: WayRow) => ({ name, p256dh, auth, pushKey, verifiedAt });
const isSame = (a: string, b: string): boolean => a.length === b.length && timingSafeEqual(Buffer.from(a), Buffer.from(b));
