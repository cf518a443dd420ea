/** Whole numbers in few bytes: LEB128, and zigzag for those that can be negative. */

export class IntWriter {
  #bytes = new Uint8Array(1024);
  #length = 0;

  /** @param value a whole number of at least 0, below 2^53 */
  write(value: number): void {
    if (this.#length + 8 > this.#bytes.length) this.#grow();
    let left = value;
    while (left >= 0x80) {
      this.#bytes[this.#length++] = (left % 0x80) | 0x80;
      left = Math.floor(left / 0x80);
    }
    this.#bytes[this.#length++] = left;
  }

  writeSigned(value: number): void {
    this.write(value < 0 ? -2 * value - 1 : 2 * value);
  }

  #grow(): void {
    const more = new Uint8Array(this.#bytes.length * 2);
    more.set(this.#bytes);
    this.#bytes = more;
  }

  get bytes(): Uint8Array {
    return this.#bytes.subarray(0, this.#length);
  }
}

export class IntReader {
  #at: number;

  constructor(
    private readonly bytes: Uint8Array,
    from = 0,
  ) {
    this.#at = from;
  }

  read(): number {
    const { bytes } = this;
    let value = 0;
    // Most have a few bytes, and so many bits stay a whole number of 32.
    for (let shift = 0; shift < 28; shift += 7) {
      const byte = bytes[this.#at++] as number;
      value |= (byte & 0x7f) << shift;
      if (byte < 0x80) return value;
    }
    let factor = 2 ** 28;
    for (;;) {
      const byte = bytes[this.#at++] as number;
      value += (byte & 0x7f) * factor;
      if (byte < 0x80) return value;
      factor *= 0x80;
    }
  }

  readSigned(): number {
    const value = this.read();
    return value % 2 === 1 ? -(value + 1) / 2 : value / 2;
  }
}
