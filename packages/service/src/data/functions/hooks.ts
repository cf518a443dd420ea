/** Hooks of the team: before actions, which they change or refuse, and on what reads find. What follows an action is a call of a job. */
import { type HookAction, Problem } from '@orchard/contract';
import { isPlainObject, type Json, type JsonObject, mergePatch, own } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { ActionBy, ActionHooks, HookedAction } from '../../platform/ports.js';
import { FILE_FACTS, FILES } from '../collections/filesShape.js';
import { readRule } from '../collections/querySql.js';
import { presentRow } from '../collections/shape.js';
import type { Author } from '../records/author.js';
import { readChange, valuesAfter } from '../records/changing.js';
import { Records } from '../records/records.js';
import { checkVersion } from '../records/recordProblems.js';
import type { AskedWrite, HookedWrite, Narrowing, RecordHooks } from '../records/ports.js';
import { authorBy, originOf } from './authors.js';
import type { Calls } from './calls.js';
import type { InForce } from './directory.js';
import { callerOf, type Ground } from './ground.js';
import type { Parts } from './parts.js';
import type { Joining } from './reaching.js';
import { refusalProblem, runProblem } from './response.js';
import { runFunction } from './runFunction.js';

/** How deep hooks may trigger hooks. */
const MOST_DEPTH = 5;
/** There is no write that theirs could join. */
const APART: Joining = { relies: [], joined: [], isApart: true };
const ACTIONS = { create: 'create', put: 'update', change: 'update', remove: 'delete' } as const;

export class Hooks {
  readonly #records: Records;
  readonly records: RecordHooks;
  readonly actions: ActionHooks;

  constructor(
    private readonly parts: Parts,
    private readonly ground: Ground,
    calls: Calls,
  ) {
    this.#records = new Records(parts);
    this.records = {
      on: (environment, collection) => ground.directory.standing(environment, `data/${collection}`),
      before: (environment, author, asked) => this.#beforeWrite(environment, author, asked),
      after: async (on, environment, author, { collection, action, id, before, record }) => {
        const subject = `data/${collection}`;
        const hooks = await ground.directory.hooks(environment, 'after', subject, action);
        if (hooks.length === 0) return false;
        demandDepth(author, `after ${action} of ${collection}`);
        const by = { ...originOf(author), trusted: author.trusted, userId: author.userId };
        await calls.add(on, environment, hooks, by, { subject: told(collection), action, id, before, record });
        return true;
      },
      narrow: (environment, author, asked) => this.#narrow(environment, author, asked),
      reshape: (environment, author, asked) => this.#reshape(environment, author, asked),
    };
    this.actions = {
      before: (environment, by, asked) => this.#beforeAction(environment, by, asked),
      follows: async (environment, subject, action) => (await ground.directory.hooks(environment, 'after', subject, action)).length > 0,
      after: async (on, environment, by, { subject, action, id, value }) => {
        const hooks = await ground.directory.hooks(environment, 'after', subject, action);
        const { userId, request, trace } = by;
        const origin = { request, trace, depth: 0, trusted: by.kind === 'server', userId };
        await calls.add(on, environment, hooks, origin, { subject, action, id, value });
      },
    };
  }

  async #beforeWrite(environment: Environment, author: Author, asked: AskedWrite): Promise<HookedWrite | null> {
    const { directory } = this.ground;
    const subject = `data/${asked.collection}`;
    if (!(await directory.standing(environment, subject)).before) return null;
    const seen = await this.#seen(environment, author, asked);
    const action: HookAction = asked.action === 'put' && !seen.before ? 'create' : ACTIONS[asked.action];
    const hooks = await directory.hooks(environment, 'before', subject, action);
    if (hooks.length === 0) return null;
    demandDepth(author, `before ${action} of ${asked.collection}`);
    const write: HookedWrite = { set: {}, answer: {}, saw: seen.saw, relies: [], joined: [] };
    for (const hook of hooks) {
      const record = seen.record && { ...seen.record, ...write.set };
      const event = { subject: told(asked.collection), action, id: asked.id || null, before: seen.before, record, sent: asked.record };
      takeAnswer(hook, await this.#run(environment, author, hook, action, event, write), write);
    }
    return write;
  }

  /** The record as it is, and as the write would make it. Whoever may not write it learns nothing of it. */
  async #seen(environment: Environment, author: Author, { action, collection, id, record, expected }: AskedWrite) {
    if (action === 'create') return { before: null, record: owned(record, author, null), saw: {} };
    const { shapes, shape } = await this.#records.known(environment, collection);
    const row = await this.#records.row(environment.db, shape, id);
    // An earlier action of the same batch may create it.
    if (!row)
      return {
        before: null,
        record: action === 'remove' ? null : owned(record, author, null),
        saw: action === 'put' ? { absent: true } : {},
      };
    await this.#records.demand(environment.db, author, { shapes, shape, action: action === 'remove' ? 'delete' : 'update', row });
    checkVersion(row, expected, collection);
    const before = presentRow(shape, row, null, true);
    const saw = { version: row.version };
    if (action === 'remove') return { before, record: null, saw };
    if (action === 'put') return { before, record: owned(record, author, row.ownerId), saw };
    const { plain, changes } = readChange(record);
    const changed = Object.fromEntries(
      Object.entries(plain).map(([name, value]) => [name, mergePatch(own(before, name) ?? null, value as Json)]),
    );
    return { before, record: { ...before, ...changed, ...(changes ? valuesAfter(shape, before, changes) : {}) }, saw };
  }

  /** Runs a hook. @returns what its handler returned @throws {Problem} refused-by-function, function-failed, function-stopped */
  async #run(environment: Environment, author: Author, hook: InForce, action: string, event: JsonObject, joining: Joining): Promise<Json> {
    const { row } = hook;
    const { depth } = originOf(author);
    const cause = `${hook.on?.moment} ${action} of ${event.subject}${event.id ? ` ${event.id}` : ''}`;
    const argument = { ...event, caller: callerOf(author), depth };
    const occasion = { author, depth: depth + 1, cause, argument, event, joining };
    const { report } = await runFunction(this.parts, this.ground, environment, hook, occasion, (ended) => ended);
    if (report.refusal) throw refusalProblem(report.refusal);
    if (report.tooDeep) throw tooDeep(cause);
    if (report.outcome !== 'answered') throw runProblem(row.name, report.outcome, report.error);
    return report.value ?? null;
  }

  async #narrow(environment: Environment, author: Author, asked: Parameters<RecordHooks['narrow']>[2]): Promise<Narrowing | null> {
    if (author.trusted) return null;
    const { collection, action, query, others } = asked;
    const { directory } = this.ground;
    const own = await directory.hooks(environment, 'before', `data/${collection}`, action);
    // What other collections show by way of this one is found as by a list of them.
    const lists = others ? await directory.hooksOf(environment, 'before', 'list') : [];
    const all = [...own, ...lists.filter(({ on }) => on?.collection && on.collection !== collection)];
    if (all.length === 0) return null;
    const found: { rules: Record<string, string>; sort?: string; limit?: number } = { rules: {} };
    for (const hook of all) {
      const of = hook.on?.collection as string;
      const event = { subject: told(of), action, id: asked.id ?? null, query: of === collection ? readingOf(query) : {} };
      const said = await this.#run(environment, author, hook, action, event, APART);
      await this.#takeNarrowing(environment, hook, said, found, of === collection);
    }
    return found;
  }

  async #takeNarrowing(
    environment: Environment,
    hook: InForce,
    said: Json,
    found: { rules: Record<string, string>; sort?: string; limit?: number },
    isAsked: boolean,
  ): Promise<void> {
    if (said === null) return;
    const failed = (why: string) => runProblem(hook.row.name, 'failed', `It returned ${JSON.stringify(said).slice(0, 200)}: ${why}.`);
    if (!isPlainObject(said)) throw failed('return { filter?, sort?, limit? }, or nothing');
    const { filter, sort, limit } = said as { filter?: unknown; sort?: unknown; limit?: unknown };
    const of = hook.on?.collection as string;
    if (filter !== undefined && filter !== null) {
      if (typeof filter !== 'string') throw failed('`filter` is no text');
      const { shapes, shape } = await this.#records.known(environment, of);
      const rule = readRule(shapes, shape, filter);
      if ('broken' in rule) throw failed(rule.broken);
      found.rules[of] = found.rules[of] ? `(${found.rules[of]}) AND (${filter})` : filter;
    }
    if (!isAsked) return;
    if (typeof sort === 'string') found.sort = sort;
    if (typeof limit === 'number' && limit >= 1 && limit <= 1000) found.limit = Math.floor(limit);
  }

  async #reshape<R extends JsonObject>(
    environment: Environment,
    author: Author,
    { collection, action, items }: { collection: string; action: 'read' | 'list'; items: R[] },
  ): Promise<R[]> {
    let shown = items;
    for (const hook of await this.ground.directory.hooks(environment, 'answer', `data/${collection}`, action)) {
      const said = await this.#run(environment, author, hook, action, { subject: told(collection), action, id: null, items: shown }, APART);
      const next = isPlainObject(said) ? (said as { items?: unknown }).items : null;
      if (!Array.isArray(next) || next.length !== shown.length || !next.every(isPlainObject))
        throw runProblem(hook.row.name, 'failed', 'It reshapes an answer: return { items }, as many objects as it was given.');
      // Who it is and which version it is stay what they are.
      shown = next.map((item, i) => ({ ...item, id: shown[i]?.id, version: shown[i]?.version }) as unknown as R);
    }
    return shown;
  }

  async #beforeAction(environment: Environment, by: ActionBy, { subject, action, id, value }: HookedAction): Promise<JsonObject> {
    let changed = value;
    for (const hook of await this.ground.directory.hooks(environment, 'before', subject, action)) {
      const author = authorBy(by);
      const said = await this.#run(environment, author, hook, action, { subject, action, id, value: changed }, APART);
      if (said === null) continue;
      const next = isPlainObject(said) ? (said as JsonObject).value : undefined;
      if (!isPlainObject(next)) throw runProblem(hook.row.name, 'failed', 'Return { value } with the members to change, or nothing.');
      changed = { ...changed, ...next };
    }
    return changed;
  }
}

const tooDeep = (cause: string) =>
  new Problem('hooks-too-deep', `Hooks triggered hooks ${MOST_DEPTH} deep, up to \`${cause}\`. One of them writes what another stands on.`);
function demandDepth(author: Author, cause: string): void {
  if (originOf(author).depth >= MOST_DEPTH) throw tooDeep(cause);
}

/** The collection of files by its name among what hooks stand on. */
const told = (collection: string): string => (collection === FILES ? 'files' : collection);
const owned = (record: JsonObject, author: Author, present: string | null): JsonObject => ({
  ...record,
  ownerId: author.trusted && record.ownerId !== undefined ? record.ownerId : (present ?? (author.trusted ? null : author.userId)),
});
const readingOf = ({
  filter,
  sort,
  limit,
}: {
  filter?: string | undefined;
  sort?: string | undefined;
  limit?: number | undefined;
}): JsonObject => ({
  ...(filter ? { filter } : {}),
  ...(sort ? { sort } : {}),
  ...(limit ? { limit } : {}),
});

/** `{ record?, answer? }`, or nothing. @throws {Problem} function-failed */
function takeAnswer({ row, on }: InForce, said: Json, write: HookedWrite): void {
  if (said === null) return;
  const { record, answer, ...other } = isPlainObject(said) ? (said as JsonObject) : { said };
  const wrong = Object.keys(other)[0] ?? [record, answer].find((part) => part !== undefined && part !== null && !isPlainObject(part));
  if (wrong !== undefined)
    throw runProblem(row.name, 'failed', 'It returned something that is no decision: return { record?, answer? }, or nothing.');
  const fact = on?.collection === FILES && Object.keys((record ?? {}) as JsonObject).find((name) => FILE_FACTS.has(name));
  if (fact) throw runProblem(row.name, 'failed', `It set \`${fact}\`, which is what the service knows of a file. Set properties.`);
  Object.assign(write.set, record);
  Object.assign(write.answer, answer);
}
