/** Receipts of messages with several segments: each segment has its own, and the delivery waits for all. */
import type { Receipt } from '@orchard/core/smpp';

type Group = { closing: string; left: number };
/** Receipts that never come must not fill the memory; the oldest are dropped. */
const MOST_OPEN = 100_000;
const MOST_EARLY = 10_000;
/** SMPP 3.4 appendix B: states after which another receipt of the same segment comes. */
const ON_THE_WAY = new Set(['ENROUTE', 'ACCEPTD', 'UNKNOWN']);

export class SegmentReceipts {
  /** By the id of each sent segment. */
  readonly #open = new Map<string, Group>();
  /** Of unknown segments: a receipt can arrive before the response to the last segment. */
  readonly #early = new Map<string, Receipt>();
  /** Long messages that are being submitted; only while there are some can a receipt be early. */
  #submitting = 0;

  /** Before the segments of a message are submitted. */
  begin(): void {
    this.#submitting++;
  }

  /** After all of them are answered, or given up. */
  end(): void {
    this.#submitting--;
    if (this.#submitting === 0) this.#early.clear();
  }

  /**
   * Notes the centre's ids of the segments of one message; the last one identifies the message.
   * @returns the receipt of the whole message, if those of its segments arrived earlier
   */
  add(ids: readonly string[]): Receipt | null {
    if (ids.length < 2) return null;
    const group = { closing: ids.at(-1) as string, left: ids.length };
    for (const id of ids) keep(this.#open, id, group, MOST_OPEN);
    let whole: Receipt | null = null;
    for (const id of ids) {
      const early = this.#early.get(id);
      if (early) whole = this.take(early) ?? whole;
      this.#early.delete(id);
    }
    return whole;
  }

  /** @returns the receipt of the whole message, or null while it says nothing yet: all have arrived, or one has not */
  take(receipt: Receipt): Receipt | null {
    const group = this.#open.get(receipt.messageId);
    if (!group) {
      if (this.#submitting > 0) keep(this.#early, receipt.messageId, receipt, MOST_EARLY);
      return receipt;
    }
    if (ON_THE_WAY.has(receipt.state)) return null;
    this.#open.delete(receipt.messageId);
    // A failed segment has been reported already; later receipts change nothing.
    if (group.left === 0) return null;
    group.left = receipt.state === 'DELIVRD' ? group.left - 1 : 0;
    return group.left === 0 ? { ...receipt, messageId: group.closing } : null;
  }
}

/** Keeps a value by its name, and drops the oldest when there are too many. */
function keep<Value>(values: Map<string, Value>, name: string, value: Value, most: number): void {
  values.set(name, value);
  for (const oldest of values.keys()) {
    if (values.size <= most) return;
    values.delete(oldest);
  }
}
