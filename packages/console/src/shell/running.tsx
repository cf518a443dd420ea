/** Questions that take longer than a second: how far they are, on every page. */
import { Progress as Bar, Text } from '@mantine/core';
import type { Progress } from '@orchard/contract';
import { useSyncExternalStore } from 'react';
import { count } from '../parts/format.js';

const running = new Map<symbol, Progress>();
const watchers = new Set<() => void>();
let latest: Progress | null = null;

function tell(): void {
  latest = running.values().next().value ?? null;
  for (const watcher of watchers) watcher();
}

/** Shows the progress of a call as long as it runs. */
export async function shownWhile<T>(work: (onProgress: (progress: Progress) => void) => Promise<T>): Promise<T> {
  const key = Symbol('call');
  try {
    return await work((progress) => {
      running.set(key, progress);
      tell();
    });
  } finally {
    if (running.delete(key)) tell();
  }
}

const subscribe = (watcher: () => void) => {
  watchers.add(watcher);
  return () => void watchers.delete(watcher);
};

export function RunningCalls() {
  const progress = useSyncExternalStore(subscribe, () => latest);
  if (!progress) return null;
  const { done, total } = progress;
  return (
    <div className="running" role="status">
      <Text size="sm">
        {count(done)} of {count(total)} parts read
      </Text>
      <Bar value={total === 0 ? 0 : (done / total) * 100} aria-label="Progress of the question" size="sm" />
    </div>
  );
}
