/** What people do before or after an event, within the same visit: a tree of names with how often each came. */
import { codeOfName, maskOf } from './mask.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import type { Segment } from './segment.js';
import { VISIT_GAP_MS, VisitBorders } from './visits.js';

export const MOST_DEPTH = 6;
export type PathsQuestion = QuestionPeriod & {
  wanted: Wanted & { event: string };
  direction: 'after' | 'before';
  depth: number;
  /** Branches of one step below this share of the beginning are put together. */
  leastShare: number;
  gapMs?: number;
};
/** `null`: rare ones together. `END`: the visit ended there, or began there. */
export type PathNode = { event: string | null; count: number; next: PathNode[] };
export const END = '';

type Node = { count: number; next: Map<string, Node> };
const emptyNode = (): Node => ({ count: 0, next: new Map() });

/** In a visit, the first such event counts. */
export class PathsScan implements Scan<{ total: number; next: PathNode[] }> {
  readonly #root = emptyNode();
  readonly #borders: VisitBorders;
  /** After it: where each person stands in the tree. */
  readonly #at = new Map<number, { node: Node; left: number }>();
  /** Before it: the latest events of each person's visit. */
  readonly #latest = new Map<number, string[]>();
  /** Visits whose event has been seen. */
  readonly #seen = new Set<number>();

  constructor(
    private readonly question: PathsQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#borders = new VisitBorders(ground.people, question.gapMs ?? VISIT_GAP_MS);
  }

  add(segment: Segment): void {
    const { wanted, direction, from, until } = this.question;
    const code = codeOfName(segment, wanted.event);
    const mask = code < 0 ? null : maskOf(segment, wanted.filter, this.ground.asking);
    const { codes, words } = segment.name;
    for (let row = 0; row < segment.rows; row++) {
      const at = segment.day + (segment.at[row] as number);
      if (at < from || at >= until) continue;
      const person = segment.person[row] as number;
      if (this.#borders.begins(person, at, segment.visit[row] as number)) this.#endVisit(person);
      const isWanted = codes[row] === code && (!mask || mask[row] === 1);
      const name = words[(codes[row] as number) - 1] as string;
      if (direction === 'after') this.#stepOn(person, name, isWanted);
      else this.#lookBack(person, name, isWanted);
    }
  }

  #stepOn(person: number, name: string, isWanted: boolean): void {
    const place = this.#at.get(person);
    if (place) {
      if (place.left === 0) return;
      place.node = count(place.node, name);
      place.left--;
    } else if (isWanted && !this.#seen.has(person)) {
      this.#seen.add(person);
      this.#root.count++;
      this.#at.set(person, { node: this.#root, left: this.question.depth });
    }
  }

  #lookBack(person: number, name: string, isWanted: boolean): void {
    const latest = this.#latest.get(person) ?? [];
    if (isWanted && !this.#seen.has(person)) {
      this.#seen.add(person);
      this.#root.count++;
      let node = this.#root;
      for (const before of [...latest].reverse()) node = count(node, before);
      if (latest.length < this.question.depth) count(node, END);
    }
    latest.push(name);
    if (latest.length > this.question.depth) latest.shift();
    this.#latest.set(person, latest);
  }

  #endVisit(person: number): void {
    const place = this.#at.get(person);
    if (place && place.left > 0) count(place.node, END);
    this.#at.delete(person);
    this.#latest.delete(person);
    this.#seen.delete(person);
  }

  answer(): { total: number; next: PathNode[] } {
    for (const person of [...this.#at.keys()]) this.#endVisit(person);
    const least = this.#root.count * this.question.leastShare;
    return { total: this.#root.count, next: present(this.#root, least) };
  }
}

function count(node: Node, name: string): Node {
  let next = node.next.get(name);
  if (!next) node.next.set(name, (next = emptyNode()));
  next.count++;
  return next;
}

function present({ next }: Node, least: number): PathNode[] {
  const all = [...next].sort(([, a], [, b]) => b.count - a.count);
  const shown = all.filter(([, node]) => node.count >= least);
  const rare = all.slice(shown.length).reduce((sum, [, node]) => sum + node.count, 0);
  return [
    ...shown.map(([event, node]) => ({ event, count: node.count, next: present(node, least) })),
    ...(rare > 0 ? [{ event: null, count: rare, next: [] }] : []),
  ];
}
