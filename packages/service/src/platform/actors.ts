/** Actors as the API shows them: with the names that members have now. */
import type { ActorDocument } from '@orchard/contract';
import { type Actor, readActor } from '@orchard/core';
import { automationTokens, members } from './access/systemTables.js';
import type { Database } from './database/connection.js';

/** How old a member's name may be. */
const FRESH_MS = 2_000;

export class Actors {
  /** By id, and by mail address for what earlier versions stored. */
  #names = new Map<string, string>();
  #loadedAt = 0;
  #loading: Promise<void> | null = null;

  constructor(
    private readonly system: Pick<Database, 'orm'>,
    private readonly now: () => number,
  ) {}

  /** Loads the current names, before actors are shown. */
  async refresh(): Promise<void> {
    if (this.now() - this.#loadedAt < FRESH_MS) return;
    this.#loading ??= this.#load().finally(() => {
      this.#loading = null;
    });
    await this.#loading;
  }

  /** After somebody was added here. */
  forget(): void {
    this.#loadedAt = 0;
  }

  async #load(): Promise<void> {
    const rows = await this.system.orm.select({ id: members.id, email: members.email, name: members.name }).from(members);
    const tokens = await this.system.orm.select({ id: automationTokens.id, name: automationTokens.name }).from(automationTokens);
    this.#names = new Map([
      ...rows.flatMap(({ id, email, name }) => [[id, name] as const, [email, name] as const]),
      ...tokens.map(({ id, name }) => [id, name] as const),
    ]);
    this.#loadedAt = this.now();
  }

  /** Ids of the members and tokens with this name or id. */
  idsOf(nameOrId: string): string[] {
    const wanted = nameOrId.toLowerCase();
    return [...this.#names].flatMap(([id, name]) => (!id.includes('@') && [id, name.toLowerCase()].includes(wanted) ? [id] : []));
  }

  /** @param text as it is stored */
  show(text: string): ActorDocument {
    return this.document(readActor(text));
  }

  document({ kind, id }: Actor): ActorDocument {
    switch (kind) {
      case 'member':
        return { kind, id, name: this.#names.get(id ?? '') ?? 'a former member' };
      case 'token':
        return { kind, id, name: this.#names.get(id ?? '') ?? 'a former token' };
      case 'server': {
        const [client = '', key = ''] = (id ?? '').split('/');
        return { kind, id, name: `${key} of ${client}` };
      }
      case 'service':
        return { kind, id, name: 'the service' };
      default:
        return { kind, id, name: kind === 'user' ? null : id };
    }
  }
}
