/** Marks rows that were added or changed while a list is open. */
import { useEffect, useRef, useState } from 'react';

const MOMENT_MS = 5_000;
const NONE: ReadonlySet<string> = new Set();

/** Ids of rows that are new or different since the previous response. */
export function changedIds(before: ReadonlyMap<string, string> | null, now: ReadonlyMap<string, string>): string[] {
  return before ? [...now].filter(([id, text]) => before.get(id) !== text).map(([id]) => id) : [];
}

/** @returns ids added or changed within the last five seconds, except by a new query */
export function useNews<T>(items: readonly T[] | undefined, idOf: (item: T) => string, asked: string): ReadonlySet<string> {
  const [news, setNews] = useState(NONE);
  const seen = useRef<{ asked: string; texts: ReadonlyMap<string, string> } | null>(null);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => {
    if (!items) return;
    const texts = new Map(items.map((item) => [idOf(item), JSON.stringify(item)]));
    const changed = changedIds(seen.current?.asked === asked ? seen.current.texts : null, texts);
    seen.current = { asked, texts };
    if (changed.length === 0) return;
    setNews(new Set(changed));
    clearTimeout(timer.current);
    timer.current = setTimeout(() => setNews(NONE), MOMENT_MS);
  }, [items, idOf, asked]);
  useEffect(() => () => clearTimeout(timer.current), []);
  return news;
}
