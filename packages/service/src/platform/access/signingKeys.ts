/**
 * The keys that sign the tokens of an environment's users: ES256 (RFC 7518 section 3.4). A key signs for ninety days; its public
 * half stays known for a week longer, so that no token of it fails.
 */
import { createPrivateKey, createPublicKey, generateKeyPair, type JsonWebKey, type KeyObject } from 'node:crypto';
import { promisify } from 'node:util';
import { asc, lt } from 'drizzle-orm';
import type { Environment } from '../call.js';
import { storedJson } from '../database/storedJson.js';
import { seal, unseal } from './secrets.js';
import { signingKeyTable } from './tables.js';

const DAY_MS = 86_400_000;
const SIGNS_MS = 90 * DAY_MS;
const KNOWN_MS = SIGNS_MS + 7 * DAY_MS;
/** Another instance may have made a key. */
const REREAD_MS = 60_000;
/** An unknown name is looked up again, but not at every call. */
const UNKNOWN_MS = 5_000;
const makePair = promisify(generateKeyPair);

export type SigningKey = { kid: string; createdAt: number; privateKey: KeyObject; publicKey: KeyObject; jwk: JsonWebKey };
type Known = { keys: SigningKey[]; readAt: number };
type Ground = { now: () => number; random: (bytes: number) => Buffer };

export class SigningKeys {
  readonly #known = new Map<string, Known>();

  constructor(private readonly ground: Ground) {}

  /** The key that signs now; made at the first use, and when the one before is old. */
  async current(environment: Environment): Promise<SigningKey> {
    const isYoung = ({ createdAt }: SigningKey) => this.ground.now() - createdAt < SIGNS_MS;
    const known = (await this.#read(environment, REREAD_MS)).findLast(isYoung);
    if (known) return known;
    await environment.db.withLease('signing key', async () => {
      if (!(await this.#read(environment, 0)).some(isYoung)) await this.#make(environment);
    });
    return (await this.#read(environment, 0)).findLast(isYoung) as SigningKey;
  }

  async find(environment: Environment, kid: string): Promise<SigningKey | null> {
    const named = (keys: readonly SigningKey[]) => keys.find((key) => key.kid === kid) ?? null;
    return named(await this.#read(environment, REREAD_MS)) ?? named(await this.#read(environment, UNKNOWN_MS));
  }

  /** Public keys as a JWK Set (RFC 7517 section 5). */
  async published(environment: Environment): Promise<{ keys: JsonWebKey[] }> {
    await this.current(environment);
    return { keys: (await this.#read(environment, REREAD_MS)).map(({ jwk, kid }) => ({ ...jwk, kid, use: 'sig', alg: 'ES256' })) };
  }

  async #read(environment: Environment, mostAgeMs: number): Promise<SigningKey[]> {
    const known = this.#known.get(environment.id);
    if (known && this.ground.now() - known.readAt < mostAgeMs) return known.keys;
    const { db } = environment;
    const rows = await db.orm.select().from(db.table(signingKeyTable)).orderBy(asc(signingKeyTable.createdAt));
    const keys = rows.map(({ kid, createdAt, sealed, jwk }): SigningKey => {
      const publicJwk = storedJson(jwk) as JsonWebKey;
      const der = unseal(environment.keys.data, contextOf(environment, kid), sealed);
      return {
        kid,
        createdAt: createdAt.getTime(),
        privateKey: createPrivateKey({ key: der, format: 'der', type: 'pkcs8' }),
        publicKey: createPublicKey({ key: publicJwk, format: 'jwk' }),
        jwk: publicJwk,
      };
    });
    this.#known.set(environment.id, { keys, readAt: this.ground.now() });
    return keys;
  }

  async #make(environment: Environment): Promise<void> {
    const { db } = environment;
    const now = this.ground.now();
    const { privateKey, publicKey } = await makePair('ec', { namedCurve: 'P-256' });
    const kid = this.ground.random(9).toString('base64url');
    const der = privateKey.export({ format: 'der', type: 'pkcs8' });
    const sealed = seal(environment.keys.data, contextOf(environment, kid), der);
    await db.orm
      .insert(db.table(signingKeyTable))
      .values({ kid, sealed, jwk: publicKey.export({ format: 'jwk' }) as never, createdAt: new Date(now) });
    await db.orm.delete(db.table(signingKeyTable)).where(lt(signingKeyTable.createdAt, new Date(now - KNOWN_MS)));
  }
}

const contextOf = ({ sealedFor: id }: Environment, kid: string): string => `signing key ${id} ${kid}`;
