/** The thread that answers questions: it keeps days open, so that a second question reads no bytes. */
import { inflateSync } from 'node:zlib';
import { parentPort } from 'node:worker_threads';
import {
  ActiveScan,
  addColumn,
  ArrivalsScan,
  CountScan,
  EffectScan,
  FunnelScan,
  mergeSegments,
  OfPersonScan,
  openDay,
  packDay,
  PathsScan,
  type QuestionGround,
  readDay,
  ReturnsScan,
  type Scan,
  type Segment,
  TimesScan,
  VisitsScan,
  WhyScan,
  withAliases,
} from '@orchard/core/insight';
import type { FromThread, SentPeople, Spec, ToThread } from './spec.js';

type Kept = { segment: Segment; aliased: { aliases: number; segment: Segment } | null };
type Running = { scan: Scan<unknown>; people: SentPeople };

const people = new Map<string, SentPeople>();
const days = new Map<string, Kept>();
const running = new Map<number, Running>();
const tell = (message: FromThread) => parentPort?.postMessage(message);

parentPort?.on('message', (message: ToThread) => {
  switch (message.kind) {
    case 'people':
      return void people.set(message.people.name, message.people);
    case 'forget':
      for (const key of message.keys) days.delete(key);
      return;
    case 'cancel':
      return void running.delete(message.id);
    default:
      try {
        take(message);
      } catch (error) {
        running.delete(message.id);
        tell({ kind: 'failed', id: message.id, message: (error as Error).stack ?? String(error) });
      }
  }
});

function take(message: Extract<ToThread, { id: number }>): void {
  const { id } = message;
  if (message.kind === 'begin') {
    const known = people.get(message.people) as SentPeople;
    const ground: QuestionGround = {
      asking: { me: { id: null, roles: [] }, now: message.now },
      people: known.count,
      firstSeen: known.firstSeen,
    };
    running.set(id, { scan: scanOf(message.spec, ground), people: known });
    return;
  }
  const question = running.get(id);
  if (!question) return;
  if (message.kind === 'day') {
    question.scan.add(segmentOf(message, question.people));
    return tell({ kind: 'done', id });
  }
  running.delete(id);
  tell({ kind: 'answer', id, answer: plain(question.scan.answer()) });
}

function scanOf(spec: Spec, ground: QuestionGround): Scan<unknown> {
  switch (spec.kind) {
    case 'count':
      return new CountScan(spec.question, ground);
    case 'funnel':
      return new FunnelScan(spec.question, ground);
    case 'why':
      return new WhyScan(spec.question, ground);
    case 'visits':
      return new VisitsScan(spec.question, ground);
    case 'arrivals':
      return new ArrivalsScan(spec.question, ground);
    case 'active':
      return new ActiveScan(spec.question, ground);
    case 'returns':
      return new ReturnsScan(spec.question, ground);
    case 'paths':
      return new PathsScan(spec.question, ground);
    case 'effect':
      return new EffectScan(spec.question, ground);
    case 'ofPerson':
      return new OfPersonScan(spec.question);
    case 'times':
      return new TimesScan(spec.question, ground);
  }
}

/** Sets of people leave the thread as numbers. */
function plain(answer: unknown): unknown {
  const { reached, ...rest } = answer as { reached?: Iterable<number>[] };
  return reached ? { ...rest, reached: reached.map((set) => Uint32Array.from(set)) } : answer;
}

function segmentOf({ key, day, rows, columns, extra }: Extract<ToThread, { kind: 'day' }>, { alias, aliases }: SentPeople): Segment {
  const packed = key === null ? null : aliasedDay(keptDay(key, day, rows, columns), alias, aliases);
  if (extra.length === 0 && packed) return packed;
  const fresh = packDay(day, extra);
  const segment = openDay(day, fresh.rows, fresh.columns, alias);
  return packed ? mergeSegments(packed, segment) : segment;
}

function keptDay(key: string, day: number, rows: number, columns: [string, Uint8Array][]): Kept {
  const fresh = columns.map(([name, bytes]) => [name, inflateSync(bytes)] as const);
  let kept = days.get(key);
  if (!kept) days.set(key, (kept = { segment: readDay(day, rows, new Map(fresh)), aliased: null }));
  else if (fresh.length > 0) {
    for (const [name, bytes] of fresh) addColumn(kept.segment, name, bytes);
    kept.aliased = null;
  }
  return kept;
}

function aliasedDay(kept: Kept, alias: Uint32Array, aliases: number): Segment {
  if (kept.aliased?.aliases !== aliases) kept.aliased = { aliases, segment: withAliases(kept.segment, alias) };
  return kept.aliased.segment;
}
