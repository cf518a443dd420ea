/** Folders, and whose rules hold in them. */
import { type FolderSettingsDocument, Problem } from '@orchard/contract';
import { type AccessRules, composeFolderRules, foldersAbove, liesIn, OWNER_ONLY, RECORD_ACTIONS } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { FILES } from '../collections/filesShape.js';
import { readRule } from '../collections/querySql.js';
import { ensureFolder, findFolder, type FolderRow, governing, moveArea, specialFolders, writeFolder } from './folderStore.js';
import type { Parts } from './parts.js';

/** How long another instance's changes may go unnoticed. */
const REMEMBER_MS = 2_000;

/** The root, folders with rules of their own, and public ones, by path. */
export type SpecialFolders = { areas: ReadonlyMap<string, AccessRules>; open: ReadonlySet<string> };
/** The folder that governs another is not the one that was read a moment ago. */
export class AreaChanged extends Error {}

export class Folders {
  readonly #known = new LRUCache<string, SpecialFolders>({ max: 2_000, ttl: REMEMBER_MS });

  constructor(private readonly parts: Parts) {}

  async special(environment: Environment): Promise<SpecialFolders> {
    const known = this.#known.get(environment.id);
    if (known) return known;
    const rows = await specialFolders(environment);
    const areas = new Map([['', OWNER_ONLY]]);
    for (const { path, rules } of rows) if (rules) areas.set(path, rules);
    const special = { areas, open: new Set(rows.filter((row) => row.public).map(({ path }) => path)) };
    this.#known.set(environment.id, special);
    return special;
  }

  forget({ id }: Environment): void {
    this.#known.delete(id);
  }

  /** The folder whose rules hold in a folder. */
  async areaOf(environment: Environment, folder: string): Promise<string> {
    const { areas } = await this.special(environment);
    return foldersAbove(folder).find((path) => areas.has(path)) ?? '';
  }

  async isPublic(environment: Environment, folder: string): Promise<boolean> {
    const { open } = await this.special(environment);
    return open.size > 0 && foldersAbove(folder).some((path) => open.has(path));
  }

  /** Makes the folder of a file that is written, and holds the rules of it until the transaction ends. @throws {AreaChanged} */
  async hold(on: Statements, environment: Environment, folder: string, area: string, by: string): Promise<void> {
    await ensureFolder(on, environment, folder, by, new Date(this.parts.now()));
    if ((await governing(on, environment, folder)) === area) return;
    this.forget(environment);
    throw new AreaChanged();
  }

  async settings(environment: Environment): Promise<FolderSettingsDocument[]> {
    const { areas, open } = await this.special(environment);
    const paths = [...new Set(['', ...areas.keys(), ...open])].sort();
    return Promise.all(paths.map((path) => this.settingsOf(environment, path)));
  }

  async settingsOf(environment: Environment, path: string): Promise<FolderSettingsDocument> {
    const { areas, open } = await this.special(environment);
    const from = await this.areaOf(environment, path);
    const own = path === '' || areas.has(path) ? (areas.get(path) ?? null) : null;
    return { path, rules: own, inForce: { ...(areas.get(from) as AccessRules), from }, public: open.has(path) };
  }

  /**
   * Sets the rules of a folder, or lets those above hold again, and whether it is public.
   * @throws {Problem} malformed-filter, busy
   */
  async change(
    environment: Environment,
    path: string,
    wanted: { rules?: Partial<AccessRules> | null | undefined; public?: boolean | undefined },
    by: string,
  ): Promise<FolderSettingsDocument> {
    const shape = await this.parts.catalogue.files(environment);
    const { db } = environment;
    await db.withLease('folders', async () => {
      this.forget(environment);
      const present = await this.settingsOf(environment, path);
      const rules = wanted.rules === undefined ? present.rules : await this.#checked(environment, present, wanted.rules);
      const row: FolderRow = { path, rules, public: wanted.public ?? present.public };
      const above = path === '' ? '' : await this.areaOf(environment, foldersAbove(path)[1] ?? '');
      await db.transaction(async (on) => {
        const now = new Date(this.parts.now());
        await ensureFolder(on, environment, path, by, now);
        await writeFolder(on, environment, row, by, now);
        if (path !== '' && rules && !present.rules) await moveArea(on, shape, above, path, path);
        if (path !== '' && !rules && present.rules) await moveArea(on, shape, path, above, '');
      });
      await this.compose(environment);
    });
    return this.settingsOf(environment, path);
  }

  /** Makes the rules of all folders those of the collection of files. */
  async compose(environment: Environment): Promise<void> {
    this.forget(environment);
    const { areas } = await this.special(environment);
    await this.parts.catalogue.changeRules(environment, FILES, composeFolderRules(areas));
  }

  async #checked(
    environment: Environment,
    { path, inForce }: FolderSettingsDocument,
    wanted: Partial<AccessRules> | null,
  ): Promise<AccessRules | null> {
    if (wanted === null) return null;
    const shapes = await this.parts.catalogue.shapes(environment, FILES);
    const shape = await this.parts.catalogue.files(environment);
    const rules = Object.fromEntries(RECORD_ACTIONS.map((action) => [action, wanted[action] ?? inForce[action]])) as AccessRules;
    for (const action of RECORD_ACTIONS) {
      const rule = readRule(shapes, shape, rules[action]);
      if ('broken' in rule) throw new Problem('malformed-filter', `The ${action} rule of ${path || 'the root'}: ${rule.broken}.`);
    }
    return rules;
  }

  /** @throws {Problem} not-found */
  async demand(environment: Environment, path: string): Promise<void> {
    if (path !== '' && !(await findFolder(environment, path)))
      throw new Problem('not-found', `There is no folder ${path}. A PUT to /app/v1/folders/${path} makes it.`);
  }

  /** Folders whose own settings go with a folder that is moved or removed. */
  async specialWithin(environment: Environment, folder: string): Promise<string[]> {
    const { areas, open } = await this.special(environment);
    return [...new Set([...areas.keys(), ...open])].filter((path) => path !== '' && liesIn(path, folder));
  }
}
