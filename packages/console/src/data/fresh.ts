/** Marks records that someone else has just changed. */
import { addressOf, operations } from '@orchard/contract';
import { useEffect, useRef, useState } from 'react';
import { refreshCalls } from '../api.js';

const MOMENT_MS = 5_000;
const GATHER_MS = 250;

/**
 * Listens to a collection while it is shown. `mine` names versions written on this page, which are not marked.
 * @returns ids that changed within the last five seconds, and a function that reports own writes
 */
export function useFresh(
  params: { app: string; environment: string; collection: string },
  filter: string,
): { fresh: ReadonlySet<string>; mine: (id: string, version: number) => void } {
  const [fresh, setFresh] = useState<ReadonlySet<string>>(new Set());
  const own = useRef(new Set<string>());
  const { app, environment, collection } = params;
  useEffect(() => {
    const source = new EventSource(
      addressOf(operations.managedRecords.live, { params: { app, environment, collection }, query: { filter } }),
    );
    const timers = new Set<ReturnType<typeof setTimeout>>();
    let reading: ReturnType<typeof setTimeout> | null = null;
    const readSoon = () => {
      reading ??= setTimeout(() => {
        reading = null;
        void refreshCalls(operations.managedRecords, operations.collections.list);
      }, GATHER_MS);
    };
    const seen = ({ data }: MessageEvent<string>) => {
      const { record } = JSON.parse(data) as { record?: { id: string; version: number } };
      readSoon();
      if (!record || own.current.delete(`${record.id} ${record.version}`)) return;
      setFresh((before) => new Set(before).add(record.id));
      const timer = setTimeout(() => {
        timers.delete(timer);
        setFresh((before) => new Set([...before].filter((id) => id !== record.id)));
      }, MOMENT_MS);
      timers.add(timer);
    };
    for (const event of ['entered', 'changed', 'left']) source.addEventListener(event, seen);
    return () => {
      source.close();
      if (reading) clearTimeout(reading);
      for (const timer of timers) clearTimeout(timer);
    };
  }, [app, environment, collection, filter]);
  return { fresh, mine: (id, version) => own.current.add(`${id} ${version}`) };
}
