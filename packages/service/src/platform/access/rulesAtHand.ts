import { type Asking, compileEvaluator, type Evaluator, flatScope, type JsonObject, readFilter } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import { readingFilter } from '../database/listing.js';

const MOST_COMPILED = 1_000;

/** Rules over a few texts that are at hand, such as the name of a channel: evaluated in memory, each compiled once. */
export class RulesAtHand {
  readonly #compiled = new LRUCache<string, Evaluator>({ max: MOST_COMPILED });
  readonly #scope;

  /** @param names of the texts that rules may ask for, besides `me` */
  constructor(names: readonly string[]) {
    this.#scope = flatScope(new Map(names.map((name) => [name, 'text'])));
  }

  /** Before a rule is stored. @throws {Problem} malformed-filter */
  demandReadable(rule: string | undefined): void {
    if (rule !== undefined) readingFilter(() => readFilter(rule, this.#scope));
  }

  holds(rule: string, values: JsonObject, asking: Asking): boolean {
    let evaluate = this.#compiled.get(rule);
    if (!evaluate) {
      evaluate = compileEvaluator(readFilter(rule, this.#scope));
      this.#compiled.set(rule, evaluate);
    }
    return evaluate(values, asking) === true;
  }
}
