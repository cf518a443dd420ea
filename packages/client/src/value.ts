/** A value that changes: what it is now, and who wants to be told. Any view library can use it. */

export type Value<T> = {
  readonly current: T;
  /** Calls `listener` after each change, until the returned function is called. */
  subscribe: (listener: (value: T) => void) => () => void;
};
export type Settable<T> = Value<T> & { set: (value: T) => void };

/** @param first called when the first listener comes, and its result when the last one goes */
export function settable<T>(initial: T, first?: () => () => void): Settable<T> {
  let current = initial;
  let end: (() => void) | undefined;
  const listeners = new Set<(value: T) => void>();
  return {
    get current() {
      return current;
    },
    set: (value) => {
      if (Object.is(value, current)) return;
      current = value;
      for (const listener of [...listeners]) listener(value);
    },
    subscribe: (listener) => {
      // The same function may listen twice.
      const own = (value: T) => listener(value);
      listeners.add(own);
      if (listeners.size === 1) end = first?.();
      return () => {
        if (!listeners.delete(own) || listeners.size > 0) return;
        end?.();
        end = undefined;
      };
    },
  };
}
