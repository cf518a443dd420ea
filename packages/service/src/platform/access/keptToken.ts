/** A token that is asked for once, and kept until shortly before its end. */

/** A token is renewed this long before it expires, or after half of a short lifetime. */
const BEFORE_MS = 60_000;

export class KeptToken {
  #kept: { token: string; until: number } | null = null;
  #making: Promise<string> | null = null;

  constructor(
    private readonly now: () => number,
    private readonly make: () => Promise<{ token: string; lifeMs: number }>,
  ) {}

  atHand(): string | null {
    return this.#kept && this.#kept.until > this.now() ? this.#kept.token : null;
  }

  /** Concurrent callers share one token request. */
  current(): Promise<string> {
    const token = this.atHand();
    if (token) return Promise.resolve(token);
    this.#making ??= this.make()
      .then(({ token, lifeMs }) => {
        this.#kept = { token, until: this.now() + Math.max(lifeMs - BEFORE_MS, lifeMs / 2) };
        return token;
      })
      .finally(() => {
        this.#making = null;
      });
    return this.#making;
  }

  forget(token: string): void {
    if (this.#kept?.token === token) this.#kept = null;
  }
}
