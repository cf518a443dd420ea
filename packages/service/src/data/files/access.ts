/** Who may do what with a file: the rules of its folder decide. */
import { Problem } from '@orchard/contract';
import { type AccessRules, type JsonObject, pathsOf, type RecordAction } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Shapes } from '../collections/catalogue.js';
import { FILES } from '../collections/filesShape.js';
import { readRule, type Rule } from '../collections/querySql.js';
import { type CollectionShape, presentRow } from '../collections/shape.js';
import type { Author } from '../records/author.js';
import { judge } from '../records/demands.js';
import type { FileRow } from './fileStore.js';
import type { Folders } from './folders.js';
import type { Parts } from './parts.js';

/** What is not known of a file before its content has arrived. */
const OF_CONTENT = new Set(['size', 'type', 'digest']);

export class FileAccess {
  constructor(
    private readonly parts: Parts,
    private readonly folders: Folders,
  ) {}

  /**
   * @param record the file as it is, or as it would be
   * @throws {Problem} access-refused
   */
  async demand(environment: Environment, author: Author, action: RecordAction, record: JsonObject): Promise<void> {
    if (author.trusted) return;
    const { shapes, shape, rule } = await this.#rule(environment, String(record.rulesFrom ?? ''), action);
    await judge(environment.db, author, this.parts.now(), { shapes, shape, action, record }, rule);
  }

  /** Before a content is read: what the rule says already. @throws {Problem} access-refused */
  async demandBefore(environment: Environment, author: Author, action: 'create' | 'update', record: JsonObject): Promise<void> {
    if (author.trusted) return;
    const { rule } = await this.#rule(environment, String(record.rulesFrom ?? ''), action);
    const needsContent = !('broken' in rule) && pathsOf(rule.condition).some(([name]) => OF_CONTENT.has(name as string));
    if (!needsContent) await this.demand(environment, author, action, record);
  }

  /** The file at a path, for somebody who may do this with it. @throws {Problem} not-found, access-refused */
  async demandRow(environment: Environment, author: Author, action: RecordAction, row: FileRow | null, named: string): Promise<FileRow> {
    if (!row) throw missingFile(named, author);
    if (author.trusted) return row;
    const record = presentRow(await this.parts.catalogue.files(environment), row, null, true);
    try {
      await this.demand(environment, author, action, record);
    } catch (error) {
      if (!(error instanceof Problem) || author.told) throw error;
      // Where refusals reveal nothing, a file that may not be read is not there.
      if (action === 'read' || !(await this.mayRead(environment, author, record))) throw missingFile(named, author);
      throw error;
    }
    return row;
  }

  async mayRead(environment: Environment, author: Author, record: JsonObject): Promise<boolean> {
    try {
      await this.demand(environment, author, 'read', record);
      return true;
    } catch (error) {
      if (error instanceof Problem && error.problem === 'access-refused') return false;
      throw error;
    }
  }

  async #rule(
    environment: Environment,
    area: string,
    action: RecordAction,
  ): Promise<{ shapes: Shapes; shape: CollectionShape; rule: Rule }> {
    const { areas } = await this.folders.special(environment);
    const files = await this.parts.catalogue.files(environment);
    const shapes = await this.parts.catalogue.shapes(environment, FILES);
    const rules = areas.get(area) ?? (areas.get('') as AccessRules);
    const key = `rule of files ${rules[action]}`;
    const known = shapes.compiled.get(key) as Rule | undefined;
    const rule = known ?? readRule(shapes, files, rules[action]);
    if (!known) shapes.compiled.set(key, rule);
    return { shapes, shape: { ...files, name: area === '' ? 'files' : `files in ${area}`, rules }, rule };
  }
}

export const missingFile = (named: string, { told, userId }: Pick<Author, 'told' | 'userId'>): Problem =>
  new Problem(
    'not-found',
    told
      ? `There is no file ${named}.`
      : `There is no file ${named} that ${userId === null ? 'callers who are not signed in' : 'this user'} may read.`,
  );
