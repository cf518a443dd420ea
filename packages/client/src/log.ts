/** Log entries and unhandled errors of the app: sent in batches, and not at all where that fails for good. */
import type { JsonObject } from '@orchard/core';
import type { BodyTo } from './types.js';

type Entry = BodyTo<'log.add'>['entries'][number];
type Level = NonNullable<Entry['level']>;
export type LogHandle = {
  (level: Level, text: string, fields?: JsonObject): void;
  /** Reports an error; `version` is that of the app. */
  error: (error: unknown, version?: string) => void;
  /** Reports each error that nobody catches, until the returned function is called. */
  reportUnhandled: (version?: string) => () => void;
  flush: () => Promise<void>;
};

const SOON_MS = 3_000;
const BATCH = 100;
const MOST_KEPT = 500;

export function logHandle(send: (entries: Entry[]) => Promise<unknown>, now: () => number): LogHandle {
  const waiting: Entry[] = [];
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = async () => {
    clearTimeout(timer);
    timer = undefined;
    while (waiting.length > 0) {
      const batch = waiting.slice(0, BATCH);
      try {
        await send(batch);
      } catch (error) {
        // What the service refuses would be refused again; what does not reach it goes with the next entry.
        if ((error as { status?: number }).status === undefined) return;
      }
      waiting.splice(0, batch.length);
    }
  };
  const add = (entry: Entry) => {
    waiting.push({ at: new Date(now()).toISOString(), ...entry });
    if (waiting.length > MOST_KEPT) waiting.shift();
    timer ??= setTimeout(() => void flush(), SOON_MS);
    (timer as { unref?: () => void }).unref?.();
  };
  const error = (given: unknown, version?: string) => {
    const { name, message, stack } = given instanceof Error ? given : new Error(String(given));
    add({
      level: 'error',
      text: message || name,
      error: { name, message, ...(stack ? { stack: stack.slice(0, 20_000) } : {}), ...(version ? { version } : {}) },
    });
  };
  return Object.assign((level: Level, text: string, fields?: JsonObject) => add({ level, text, ...(fields ? { fields } : {}) }), {
    error,
    flush,
    reportUnhandled: (version?: string) => {
      const heard = (event: Event) => error((event as ErrorEvent).error ?? (event as PromiseRejectionEvent).reason ?? event.type, version);
      for (const type of ['error', 'unhandledrejection']) globalThis.addEventListener?.(type, heard);
      return () => {
        for (const type of ['error', 'unhandledrejection']) globalThis.removeEventListener?.(type, heard);
      };
    },
  });
}
