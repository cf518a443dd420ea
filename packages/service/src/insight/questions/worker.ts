/** A thread that answers questions: days stay open, so that a second question reads no bytes. */
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
  packDay,
  PathsScan,
  type PeopleShare,
  type QuestionGround,
  readDay,
  ReturnsScan,
  rowsOfShare,
  type Scan,
  type Segment,
  SHARED_MEMORY,
  shareSegment,
  TimesScan,
  VisitsScan,
  WhyScan,
  withAliases,
} from '@orchard/core/insight';
import type { CallName, Calls, DayToLook, FromThread, SharedPeople, Spec, ToThread } from './spec.js';

type Running = { scan: Scan<unknown>; people: SharedPeople; share: PeopleShare | null };

/** Days as they were packed, by their version: those that this thread has opened. */
const packedDays = new Map<string, Segment>();
/** Days as questions read them, of whatever thread. */
const days = new Map<string, Segment>();
const running = new Map<number, Running>();

parentPort?.on('message', (message: ToThread) => {
  switch (message.call) {
    case 'take':
      return void days.set(message.key, message.segment);
    case 'forget':
      for (const key of message.keys) days.delete(key);
      for (const day of message.days) packedDays.delete(day);
      return;
    case 'begin':
      return begin(message);
    case 'end':
      return void running.delete(message.id);
    default:
      parentPort?.postMessage(answerTo(message));
  }
});

function answerTo(message: Extract<ToThread, { ticket: number }>): FromThread {
  const { ticket } = message;
  try {
    return { ticket, answer: (answers[message.call] as (asked: unknown) => unknown)(message.asked) };
  } catch (error) {
    return { ticket, failed: (error as Error).stack ?? String(error) };
  }
}

const answers: { [Name in CallName]: (asked: Calls[Name]['asked']) => Calls[Name]['answer'] } = {
  open: openDay,
  days: lookThrough,
  sizes: ({ id }) => (scanOfQuestion(id) as CountScan).sizes(),
  part: ({ id, top }) => (scanOfQuestion(id) as CountScan | FunnelScan).part(top),
  answer: ({ id }) => scanOfQuestion(id).answer(),
};

function begin({ id, spec, people, now, share }: Extract<ToThread, { call: 'begin' }>): void {
  const asking = { me: { id: null, roles: [] }, now };
  running.set(id, { scan: scanOf(spec, { asking, people: people.count, firstSeen: people.firstSeen }), people, share });
}

function runningOf(id: number): Running {
  const found = running.get(id);
  if (!found) throw new Error('The question has ended.');
  return found;
}
const scanOfQuestion = (id: number): Scan<unknown> => runningOf(id).scan;

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

/** In memory that every thread sees, so that each can look through it. */
function openDay({ day, at, rows, columns, people }: Calls['open']['asked']): Segment {
  const fresh = columns.map(([name, bytes]) => [name, inflateSync(bytes)] as const);
  let packed = packedDays.get(day);
  if (packed) for (const [name, bytes] of fresh) addColumn(packed, name, bytes, SHARED_MEMORY);
  else packedDays.set(day, (packed = readDay(at, rows, new Map(fresh), SHARED_MEMORY)));
  return shareSegment(withAliases(packed, people.alias));
}

function lookThrough({ id, days: next }: Calls['days']['asked']): undefined {
  const question = runningOf(id);
  for (const day of next) question.scan.add(segmentOf(day, question));
}

function segmentOf({ key, at, extra }: DayToLook, { people, share }: Running): Segment {
  const known = key === null ? null : (days.get(key) as Segment);
  const packed = known && share ? rowsOfShare(known, share) : known;
  const own = share ? extra.filter(({ person }) => isIn(share, people.alias[person] ?? person)) : extra;
  if (own.length === 0 && packed) return packed;
  const fresh = packDay(at, own);
  const segment = withAliases(readDay(at, fresh.rows, fresh.columns), people.alias);
  return packed ? mergeSegments(packed, segment) : segment;
}

const isIn = ({ from, until }: PeopleShare, person: number): boolean => person >= from && person < until;
