/** Live records: events of one record, or of all that match a filter. */
import { Problem } from '@orchard/contract';
import { type Asking, analyseFilter, compileEvaluator, type Evaluator, type JsonObject, parseFilter } from '@orchard/core';
import { readingFilter } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import { type EventStream, eventText } from '../../platform/live/eventStream.js';
import type { FeedListener, FeedRow } from '../../platform/live/feed.js';
import type { Parts } from './parts.js';
import { type Shapes, unknownCollection } from '../collections/catalogue.js';
import type { Actors } from '../../platform/actors.js';
import { readImage } from '../collections/columns.js';
import { demandList } from './listStore.js';
import { type Guard, guardsOf, referencePaths, ruleOf, scopeOf } from '../collections/querySql.js';
import { type CollectionShape, presentRow, withoutHidden } from '../collections/shape.js';
import { readRow } from './recordSql.js';
import { askingOf, type Author } from './author.js';
import { holds, loadRelated, mayRead, type Through, asSeen, leaveOut, unseenIn } from './reading.js';

type Image = JsonObject & { id: string; version: number };
type Names = { entered: string; changed: string; left: string };
const OF_FILTER: Names = { entered: 'entered', changed: 'changed', left: 'left' };
const OF_RECORD: Names = { entered: 'created', changed: 'changed', left: 'deleted' };
/** A signed-in reader must reconnect with a fresh token after this. */
const LIFETIME_MS = 10 * 60_000;

/** Images and texts of an entry, built once for all listeners. */
class Entry {
  readonly #texts = new Map<string, string>();
  readonly #images = new Map<'before' | 'after', Image | null>();

  constructor(
    private readonly row: FeedRow,
    private readonly shape: CollectionShape,
    private readonly actors: Actors,
  ) {}

  image(which: 'before' | 'after'): Image | null {
    let image = this.#images.get(which);
    if (image === undefined) {
      const text = this.row[which];
      image = text === null ? null : readImage(this.row.recordId, text, this.shape.fields);
      this.#images.set(which, image);
    }
    return image;
  }

  text(event: string, withHidden: boolean, unseen: readonly string[]): string {
    const key = [event, withHidden, ...unseen].join(' ');
    let text = this.#texts.get(key);
    if (text === undefined) {
      text = eventText(event, this.row.number, JSON.stringify(this.#data(event, withHidden, unseen)));
      this.#texts.set(key, text);
    }
    return text;
  }

  #data(event: string, withHidden: boolean, unseen: readonly string[]): JsonObject {
    const after = this.image('after');
    if (event === 'left' || event === 'deleted' || !after)
      return { id: this.row.recordId, version: this.row.version, deleted: this.row.action === 'delete' };
    const shown = withHidden ? after : leaveOut(withoutHidden(this.shape, after), unseen);
    return { record: shown, ...(withHidden ? { by: this.actors.show(this.row.by) } : {}) };
  }
}

const entries = new WeakMap<FeedRow, Entry>();
function entryOf(row: FeedRow, shape: CollectionShape, { actors }: Environment): Entry {
  let entry = entries.get(row);
  if (!entry) {
    entry = new Entry(row, shape, actors);
    entries.set(row, entry);
  }
  return entry;
}

/** A condition on an image, with its author: the team's read rule, or the caller's filter. */
type Test = { evaluate: Evaluator; paths: string[]; of: 'team' | 'caller' };
type View = { shapes: Shapes; shape: CollectionShape; tests: Test[]; guards: Guard[] };

class LiveListener implements FeedListener {
  #view: View | null = null;
  #taking: Promise<void> = Promise.resolve();
  /** The version last sent of the one record that is watched. */
  #seen = 0;

  constructor(
    private readonly parts: Parts,
    private readonly environment: Environment,
    private readonly collection: string,
    private readonly author: Author,
    private readonly stream: EventStream,
    private readonly watched: { filter?: string | undefined; id?: string },
    public position: number,
    private readonly until: number,
  ) {}

  startAt(version: number): void {
    this.#seen = version;
  }

  get hasRoom(): boolean {
    return this.stream.hasRoom;
  }

  /** One call after another, so that no event overtakes another one. */
  take(rows: readonly FeedRow[]): Promise<void> {
    this.#taking = this.#taking.catch(() => undefined).then(() => this.#take(rows));
    return this.#taking;
  }

  /** Conditions without references are evaluated synchronously, since hundreds of listeners may check each entry. */
  async #take(rows: readonly FeedRow[]): Promise<void> {
    let view: View | null | undefined;
    for (const row of rows) {
      if (!this.stream.hasRoom) return;
      if (row.number <= this.position) continue;
      if (row.collection === this.collection && (!this.watched.id || row.recordId === this.watched.id)) {
        if (view === undefined) view = await this.#shapes();
        const text = view && this.#isNews(row) ? this.#text(row, view) : null;
        const sent = text instanceof Promise ? await text : text;
        if (sent) this.stream.send(sent);
      }
      this.position = row.number;
    }
  }

  tick(position: number): void {
    if (this.stream.cutIfStuck()) return;
    if (this.parts.now() > this.until) return this.stream.end();
    if (this.position === position && this.stream.hasRoom) this.stream.send(eventText(null, position));
  }

  /** The rule and filter, compiled again when the collection has changed. */
  async #shapes(): Promise<View | null> {
    const shapes = await this.parts.catalogue.shapes(this.environment, this.collection);
    const shape = shapes.collections.get(this.collection);
    if (!shape) return null;
    if (this.#view?.shape !== shape) {
      const tests = readTests(shapes, shape, this.watched.filter, this.author);
      this.#view = { shapes, shape, tests, guards: this.author.trusted ? [] : guardsOf(shapes, shape) };
    }
    return this.#view;
  }

  /** For a watched record, the state shown at the start of the stream is not an event. */
  #isNews(row: FeedRow): boolean {
    if (!this.watched.id) return true;
    if (row.action === 'update' && row.version <= this.#seen) return false;
    return !(row.action === 'create' && this.#seen > 0);
  }

  #text(row: FeedRow, view: View): string | null | Promise<string | null> {
    const entry = entryOf(row, view.shape, this.environment);
    const [before, after] = [row.before === null ? null : entry.image('before'), row.after === null ? null : entry.image('after')];
    if (view.guards.length === 0 && view.tests.every(({ paths }) => paths.length === 0)) {
      const passes = (image: Image | null) => image !== null && view.tests.every(({ evaluate }) => holds(evaluate, image, this.#asking()));
      return this.#event(row, entry, passes(before), passes(after));
    }
    return this.#following(row, entry, before, after, view);
  }

  async #following(row: FeedRow, entry: Entry, before: Image | null, after: Image | null, view: View): Promise<string | null> {
    const { shapes, shape } = view;
    const unseen = after ? await unseenIn(shape.db, shapes, shape, after, this.author, this.parts.now()) : [];
    return this.#event(row, entry, await this.#passes(before, view), await this.#passes(after, view), unseen);
  }

  async #passes(image: Image | null, { shapes, shape, tests }: View): Promise<boolean> {
    if (!image) return false;
    const now = this.parts.now();
    const seen = await asSeen(shape.db, shapes, shape, image, this.author, now);
    for (const { evaluate, paths, of } of tests) {
      const through: Through = of === 'team' ? 'team' : { author: this.author, now };
      const tested = of === 'team' ? image : seen;
      const related = paths.length > 0 ? await loadRelated(shape.db, shapes, shape, tested, paths, through) : undefined;
      if (!holds(evaluate, tested, askingOf(this.author, now), related)) return false;
    }
    return true;
  }

  #asking(): Asking {
    return askingOf(this.author, this.parts.now());
  }

  #event(row: FeedRow, entry: Entry, was: boolean, is: boolean, unseen: readonly string[] = []): string | null {
    if (this.watched.id) this.#seen = row.action === 'delete' ? 0 : row.version;
    const names = this.watched.id ? OF_RECORD : OF_FILTER;
    const event = is ? (was ? names.changed : names.entered) : was ? names.left : null;
    return event && entry.text(event, this.author.trusted, unseen);
  }
}

function readTests(shapes: Shapes, shape: CollectionShape, filter: string | undefined, author: Author): Test[] {
  const tests: Test[] = [];
  if (!author.trusted) {
    const rule = ruleOf(shapes, shape, 'read');
    if ('broken' in rule) return [{ evaluate: () => false, paths: [], of: 'team' }];
    tests.push({ ...rule, of: 'team' });
  }
  if (filter?.trim()) tests.push(readTest(shapes, shape, filter, author.trusted));
  return tests;
}

function readTest(shapes: Shapes, shape: CollectionShape, filter: string, trusted: boolean): Test {
  const condition = analyseFilter(parseFilter(filter), scopeOf(shapes, shape, trusted));
  return { evaluate: compileEvaluator(condition), paths: referencePaths(condition), of: 'caller' };
}

/**
 * Checks the request before the stream begins.
 * @throws {Problem} collection-unknown, access-refused, malformed-filter
 */
export async function checkLive(
  parts: Parts,
  environment: Environment,
  collection: string,
  author: Author,
  filter: string | undefined,
): Promise<void> {
  const shapes = await parts.catalogue.shapes(environment, collection);
  const shape = shapes.collections.get(collection);
  if (!shape) throw unknownCollection(environment, collection);
  demandList(shapes, shape, author);
  if (filter?.trim()) readingFilter(() => readTest(shapes, shape, filter, author.trusted));
}

/** The number of a Last-Event-ID header, or null. @throws {Problem} invalid-input */
export function readLastEvent(header: string | string[] | undefined): number | null {
  if (header === undefined || header === '') return null;
  if (typeof header === 'string' && /^\d{1,15}$/.test(header)) return Number(header);
  throw new Problem('invalid-input', 'Last-Event-ID is the id of an event of this stream.', {
    fields: [{ path: 'headers.Last-Event-ID', problem: `It is ${JSON.stringify(header)}.`, expected: 'the id of the last event received' }],
  });
}

/** Streams the events of a filter or of one record. */
export async function streamRecords(
  parts: Parts,
  environment: Environment,
  collection: string,
  author: Author,
  stream: EventStream,
  watched: { filter?: string | undefined; id?: string },
  lastEvent: number | null,
): Promise<void> {
  const highest = await parts.feed.settle(environment);
  const oldest = await parts.feed.oldest(environment);
  const isLost = lastEvent !== null && (lastEvent > highest || (oldest > 0 && lastEvent + 1 < oldest));
  const position = lastEvent === null || isLost ? highest : lastEvent;
  const until = author.userId ? parts.now() + LIFETIME_MS : Number.POSITIVE_INFINITY;
  const listener = new LiveListener(parts, environment, collection, author, stream, watched, position, until);
  if (isLost) stream.send(eventText('reset', highest, '{}'));
  if (watched.id && (lastEvent === null || isLost)) await sendPresent(parts, environment, collection, author, stream, watched.id, listener);
  else if (lastEvent === null) stream.send(eventText('ready', position, JSON.stringify({ number: position })));
  stream.onEnd(parts.feed.follow(environment, listener));
}

/** The record as it is now; one that may not be read looks missing. */
async function sendPresent(
  parts: Parts,
  environment: Environment,
  collection: string,
  author: Author,
  stream: EventStream,
  id: string,
  listener: LiveListener,
): Promise<void> {
  const shapes = await parts.catalogue.shapes(environment, collection);
  const shape = shapes.collections.get(collection);
  const row = shape && (await readRow(shape.db, shape, id));
  const record = shape && row ? presentRow(shape, row, null, true) : null;
  const visible = shape && record && (await mayRead(shape.db, shapes, shape, record, author, parts.now()));
  if (!visible || !shape || !record) {
    stream.send(eventText('absent', listener.position, JSON.stringify({ id })));
    return;
  }
  listener.startAt(record.version);
  const shown = await asSeen(shape.db, shapes, shape, record, author, parts.now());
  stream.send(eventText('current', listener.position, JSON.stringify({ record: shown })));
}
