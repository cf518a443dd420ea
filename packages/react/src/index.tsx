/** The client library for React: what changes, as hooks. */
import type { AnySchema, CollectionHandle, LiveList, LiveRecord, Orchard, SyncState, Value } from '@orchard/client';
import { createContext, type ReactNode, useContext, useMemo, useSyncExternalStore } from 'react';

const Context = createContext<Orchard<never> | null>(null);

/** Gives everything below it what `connect` returned. */
export function OrchardProvider({ orchard, children }: { orchard: Orchard<never>; children: ReactNode }) {
  return <Context value={orchard}>{children}</Context>;
}

/** @throws where no provider is around */
export function useOrchard<Schema = AnySchema>(): Orchard<Schema> {
  const orchard = useContext(Context);
  if (!orchard) throw new Error('There is no OrchardProvider around this component.');
  return orchard as unknown as Orchard<Schema>;
}

/** What a value is now; the component is drawn again when it changes. */
export const useValue = <T,>(value: Value<T>): T =>
  useSyncExternalStore(
    value.subscribe,
    () => value.current,
    () => value.current,
  );

/** The signed-in user; null while nobody is. */
export const useUser = (): Orchard['user']['current'] => useValue(useOrchard().user);
export const useSyncState = (): SyncState => useValue(useOrchard().sync.state);

type Query = NonNullable<Parameters<CollectionHandle['live']>[0]>;

/** A list that stays up to date, from the device where it keeps the collection. */
export function useRecords<R = AnySchema[string]>(collection: string, query: Query = {}): LiveList<R> {
  const orchard = useOrchard();
  const key = JSON.stringify(query);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the query counts by what it holds
  const live = useMemo(() => orchard.collection(collection).live(query), [orchard, collection, key]);
  return useValue(live) as unknown as LiveList<R>;
}

/** One record that stays up to date. */
export function useRecord<R = AnySchema[string]>(collection: string, id: string): LiveRecord<R> {
  const orchard = useOrchard();
  const live = useMemo(() => orchard.collection(collection).liveRecord(id), [orchard, collection, id]);
  return useValue(live) as unknown as LiveRecord<R>;
}
