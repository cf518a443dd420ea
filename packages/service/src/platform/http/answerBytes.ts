/** Limits on the size of responses, singly and together, counted while they are built and until they are read. */
import { Problem } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { currentCost } from '../database/connection.js';

/** The most bytes of one response. */
export const MOST_BYTES = 32_000_000;
/** Most bytes that one statement of a call may read from the database: the response, and what is filtered from it. */
const MOST_READ = 48_000_000;
/** The most bytes that unread responses of one caller, and of this instance, may hold. */
const PER_CALLER = 128_000_000;
const PER_INSTANCE = 512_000_000;
/** Smaller responses count only while they are unread. */
const COUNTED_FROM = 256_000;

/** Bytes held by the responses of this instance. */
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
      throw unread(`Unread responses to this caller hold more than ${PER_CALLER / 1e6} MB.`);
    if (this.#held + bytes > PER_INSTANCE) throw unread(`Unread responses hold more than ${PER_INSTANCE / 1e6} MB.`);
  }

  change(caller: string, bytes: number): void {
    this.#held += bytes;
    const left = (this.#byCaller.get(caller) ?? 0) + bytes;
    if (left > 0) this.#byCaller.set(caller, left);
    else this.#byCaller.delete(caller);
  }
}

const unread = (problem: string) => new Problem('answers-unread', `${problem} Read those first, or try again.`, { retryAfterS: 2 });

/** The bytes of one call's response. */
export class AnswerBytes {
  #held = 0;
  #caller = '';
  #ended = false;

  constructor(
    private readonly ledger: AnswerLedger,
    private readonly callerOf: () => string,
  ) {}

  /** Counts what a statement of the call reads. @throws {Problem} answer-too-large, answers-unread */
  readonly read = (bytes: number): void => {
    if (bytes > MOST_READ) throw tooLarge();
    this.#hold(bytes);
  };

  /**
   * Counts the size of the response.
   * @throws {Problem} answer-too-large, answers-unread
   */
  readonly count = (bytes: number): void => {
    if (bytes > MOST_BYTES) throw tooLarge();
    this.#hold(bytes);
  };

  /** Counts what is still unread once the response is being sent. */
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
    `The response would be over ${MOST_BYTES / 1e6} MB. Ask for less at a time: a smaller \`limit\`, fewer \`fields\`, or without an \`include\`. For more, use an export.`,
  );

/**
 * Counts towards the response of the current call.
 * @throws {Problem} answer-too-large, answers-unread
 */
export const countAnswer = (bytes: number): void => currentCost.getStore()?.answer?.(bytes);

/** The approximate size of a value as JSON, in bytes; repeated parts are measured once. */
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
