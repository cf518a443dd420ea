/** A set of people by number: a few as they are, many as one bit each. */

/** Beyond so many, a bit for everybody takes less than an entry for each. */
const MOST_ENTRIES = 400;

export class PeopleSet {
  #entries: Set<number> | null = new Set();
  #bits = new Uint32Array(0);
  #count = 0;

  /** @param most about the highest number there is */
  constructor(private readonly most = 1024) {}

  get size(): number {
    return this.#entries?.size ?? this.#count;
  }

  /** @returns whether it is new */
  add(person: number): boolean {
    if (this.#entries) {
      const before = this.#entries.size;
      if (this.#entries.add(person).size === before) return false;
      if (before >= MOST_ENTRIES) this.#turnToBits(this.#entries);
      return true;
    }
    const word = person >>> 5;
    if (word >= this.#bits.length) this.#grow(word);
    const bit = 1 << (person & 31);
    if ((this.#bits[word] as number) & bit) return false;
    this.#bits[word] = (this.#bits[word] as number) | bit;
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

  #turnToBits(entries: Set<number>): void {
    this.#entries = null;
    this.#bits = new Uint32Array(Math.ceil(this.most / 32) || 1);
    for (const one of entries) this.add(one);
  }

  #grow(word: number): void {
    const more = new Uint32Array(Math.max(word + 1, this.#bits.length * 2));
    more.set(this.#bits);
    this.#bits = more;
  }
}
