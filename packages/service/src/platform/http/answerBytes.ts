/** How large answers may become, one by one and all together, counted while they are put together and until they are read. */
import { Problem } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { currentCost } from '../database/connection.js';

/** Most bytes of one answer. */
export const MOST_BYTES = 32_000_000;
/** Most bytes that one statement of a call may bring in from the database: an answer, and what is left out of it. */
const MOST_READ = 48_000_000;
/** Most bytes that answers of one caller, and those of this instance, may hold until they are read. */
const PER_CALLER = 128_000_000;
const PER_INSTANCE = 512_000_000;
/** Smaller answers are only counted when nobody reads them. */
const COUNTED_FROM = 256_000;

/** What the answers of this instance hold. */
export class AnswerLedger {
  #held = 0;
  readonly #byCaller = new Map<string, number>();

  /** Bytes held in all. */
  get held(): number {
    return this.#held;
  }

  /** @throws {Problem} answers-unread */
  demandRoom(caller: string, bytes: number): void {
    if ((this.#byCaller.get(caller) ?? 0) + bytes > PER_CALLER)
      throw unread(`Answers to this caller that are not read yet hold more than ${PER_CALLER / 1e6} MB.`);
    if (this.#held + bytes > PER_INSTANCE) throw unread(`Answers that are not read yet hold more than ${PER_INSTANCE / 1e6} MB.`);
  }

  change(caller: string, bytes: number): void {
    this.#held += bytes;
    const left = (this.#byCaller.get(caller) ?? 0) + bytes;
    if (left > 0) this.#byCaller.set(caller, left);
    else this.#byCaller.delete(caller);
  }
}

const unread = (problem: string) => new Problem('answers-unread', `${problem} Read those first, or try again.`, { retryAfterS: 2 });

/** The bytes of one call's answer. */
export class AnswerBytes {
  #held = 0;
  #caller = '';
  #ended = false;

  constructor(
    private readonly ledger: AnswerLedger,
    private readonly callerOf: () => string,
  ) {}

  /** Counts what a statement of the call brings in. @throws {Problem} answer-too-large, answers-unread */
  readonly read = (bytes: number): void => {
    if (bytes > MOST_READ) throw tooLarge();
    this.#hold(bytes);
  };

  /** Counts what the answer has become. @throws {Problem} answer-too-large, answers-unread */
  readonly count = (bytes: number): void => {
    if (bytes > MOST_BYTES) throw tooLarge();
    this.#hold(bytes);
  };

  /** Notes what is left to be read when the answer is on its way. */
  keep(bytes: number): void {
    if (bytes > this.#held) this.#change(bytes - this.#held);
  }

  release(): void {
    this.#ended = true;
    if (this.#held > 0) this.#change(-this.#held);
  }

  get held(): number {
    return this.#held;
  }

  #hold(bytes: number): void {
    if (this.#ended || bytes < COUNTED_FROM || bytes <= this.#held) return;
    this.ledger.demandRoom(this.callerOf(), bytes - this.#held);
    this.#change(bytes - this.#held);
  }

  #change(bytes: number): void {
    this.#caller ||= this.callerOf();
    this.#held += bytes;
    this.ledger.change(this.#caller, bytes);
  }
}

const tooLarge = () =>
  new Problem(
    'answer-too-large',
    `The answer would be over ${MOST_BYTES / 1e6} MB. Ask for less at a time: a smaller \`limit\`, fewer \`fields\`, or without an \`include\`. Files of any size come by export.`,
  );

/** Counts towards the answer of the call that the running code works for. @throws {Problem} answer-too-large, answers-unread */
export const countAnswer = (bytes: number): void => currentCost.getStore()?.answer?.(bytes);

/** About how many bytes a value has as JSON; what stands in it several times is measured once. */
export function jsonBytes(value: Json | undefined, known: Map<object, number>): number {
  if (typeof value === 'string') return value.length + 2;
  if (typeof value !== 'object' || value === null) return 8;
  const before = known.get(value);
  if (before !== undefined) return before;
  let bytes = 2;
  if (Array.isArray(value)) for (const inner of value) bytes += jsonBytes(inner, known) + 1;
  else for (const name of Object.keys(value)) bytes += name.length + 4 + jsonBytes(value[name], known);
  known.set(value, bytes);
  return bytes;
}
