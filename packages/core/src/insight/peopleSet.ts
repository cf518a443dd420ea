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
  /** Signed, so that the work on them stays with whole numbers of 32 bits. */
  #bits: Int32Array;
  #count = 0;

  /** @param most about the highest number there is */
  constructor(
    private readonly most = 1024,
    private readonly budget: BitBudget | null = null,
  ) {
    const words = Math.ceil(most / 32) || 1;
    const fits = budget === null || budget.take(words * 4);
    this.#bits = new Int32Array(fits ? words : 0);
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
    const after = before | (1 << (person & 31));
    if (after === before) return false;
    this.#bits[word] = after;
    this.#count++;
    return true;
  }

  /** Like add, for loops that need no answer: whether somebody is new is hard to predict, so it is no branch. */
  mark(person: number): void {
    const word = person >>> 5;
    if (this.#entries || word >= this.#bits.length) {
      this.add(person);
      return;
    }
    const before = this.#bits[word] as number;
    this.#count += ~(before >>> (person & 31)) & 1;
    this.#bits[word] = before | (1 << (person & 31));
  }

  /** Adds everybody of another set, a word of bits at a time where both have bits. */
  addAll(other: PeopleSet): void {
    if (this.#entries || other.#entries) {
      for (const person of other) this.add(person);
      return;
    }
    if (other.#bits.length > this.#bits.length) this.#grow(other.#bits.length - 1);
    const bits = this.#bits;
    const more = other.#bits;
    for (let word = 0; word < more.length; word++) {
      const fresh = (more[word] as number) & ~(bits[word] as number);
      if (fresh === 0) continue;
      bits[word] = (bits[word] as number) | fresh;
      this.#count += bitsIn(fresh);
    }
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

  /** All of them, ascending. */
  toNumbers(): Uint32Array {
    if (this.#entries) return Uint32Array.from(this.#entries).sort();
    const all = new Uint32Array(this.#count);
    let count = 0;
    for (let word = 0; word < this.#bits.length; word++)
      for (let left = this.#bits[word] as number; left !== 0; left &= left - 1) all[count++] = word * 32 + (31 - Math.clz32(left & -left));
    return all;
  }

  /** The set is not needed any more. */
  release(): void {
    if (!this.#entries) this.budget?.giveBack(this.#bits.length * 4);
    this.#bits = new Int32Array(0);
    this.#entries = null;
  }

  #addEntry(entries: Set<number>, person: number): boolean {
    const before = entries.size;
    if (entries.add(person).size === before) return false;
    if (before < MOST_ENTRIES) return true;
    this.#entries = null;
    this.#bits = new Int32Array(Math.ceil(this.most / 32) || 1);
    for (const one of entries) this.add(one);
    return true;
  }

  #grow(word: number): void {
    const more = new Int32Array(Math.max(word + 1, this.#bits.length * 2));
    more.set(this.#bits);
    this.#bits = more;
  }
}

/** How many bits of 32 are set: added up in pairs, fours, eights, and then all at once. */
function bitsIn(word: number): number {
  const pairs = word - ((word >>> 1) & 0x55555555);
  const fours = (pairs & 0x33333333) + ((pairs >>> 2) & 0x33333333);
  return Math.imul((fours + (fours >>> 4)) & 0x0f0f0f0f, 0x01010101) >>> 24;
}
