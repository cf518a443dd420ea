/** A set of people by number: one bit for each person there is, or a few entries where the bits of many sets would not fit. */

/** Beyond so many, a bit for everybody takes less than an entry for each. */
const MOST_ENTRIES = 400;

/** Memory that the sets of one question may take for bits at once; beyond it, only large sets get some. */
export class BitBudget {
  constructor(private left = 64_000_000) {}

  take(bytes: number): boolean {
    if (bytes > this.left) return false;
    this.left -= bytes;
    return true;
  }

  giveBack(bytes: number): void {
    this.left += bytes;
  }
}

export class PeopleSet {
  #entries: Set<number> | null = null;
  #bits: Uint32Array;
  #count = 0;

  /** @param most about the highest number there is */
  constructor(
    private readonly most = 1024,
    private readonly budget: BitBudget | null = null,
  ) {
    const words = Math.ceil(most / 32) || 1;
    const fits = budget === null || budget.take(words * 4);
    this.#bits = new Uint32Array(fits ? words : 0);
    if (!fits) this.#entries = new Set();
  }

  get size(): number {
    return this.#entries?.size ?? this.#count;
  }

  /** @returns whether it is new */
  add(person: number): boolean {
    if (this.#entries) return this.#addEntry(this.#entries, person);
    const word = person >>> 5;
    if (word >= this.#bits.length) this.#grow(word);
    const before = this.#bits[word] as number;
    // Unsigned, like what the array holds: the highest bit would make it negative.
    const after = (before | (1 << (person & 31))) >>> 0;
    if (after === before) return false;
    this.#bits[word] = after;
    this.#count++;
    return true;
  }

  has(person: number): boolean {
    if (this.#entries) return this.#entries.has(person);
    return (((this.#bits[person >>> 5] ?? 0) >>> (person & 31)) & 1) === 1;
  }

  *[Symbol.iterator](): Generator<number> {
    if (this.#entries) {
      yield* this.#entries;
      return;
    }
    for (const [word, bits] of this.#bits.entries())
      for (let left = bits; left !== 0; left &= left - 1) yield word * 32 + (31 - Math.clz32(left & -left));
  }

  /** The set is not needed any more. */
  release(): void {
    if (!this.#entries) this.budget?.giveBack(this.#bits.length * 4);
    this.#bits = new Uint32Array(0);
    this.#entries = null;
  }

  #addEntry(entries: Set<number>, person: number): boolean {
    const before = entries.size;
    if (entries.add(person).size === before) return false;
    if (before < MOST_ENTRIES) return true;
    this.#entries = null;
    this.#bits = new Uint32Array(Math.ceil(this.most / 32) || 1);
    for (const one of entries) this.add(one);
    return true;
  }

  #grow(word: number): void {
    const more = new Uint32Array(Math.max(word + 1, this.#bits.length * 2));
    more.set(this.#bits);
    this.#bits = more;
  }
}
