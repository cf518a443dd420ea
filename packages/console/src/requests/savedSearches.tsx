/** Saved searches of a list of requests or log entries. */
import { operations, type SavedSearch } from '@orchard/contract';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { SavedStates } from '../parts/saved.js';

const KEPT = ['filter', 'text', 'sort', 'level', 'source'];

export function SavedSearches({ list }: { list: SavedSearch['list'] }) {
  const { params } = useEnvironment();
  const own = operations.telemetry;
  const searches = useCall(own.searches, { params });
  const remove = useChange(own.removeSearch, [own.searches]);
  return (
    <SavedStates
      items={(searches.data?.items ?? []).filter((one) => one.list === list)}
      kept={KEPT}
      noun="search"
      onRemove={(search) => remove.mutate({ params: { ...params, search } })}
      save={own.saveSearch}
      inputOf={(name, query) => ({ params, body: { list, name, query } })}
      stale={own.searches}
    />
  );
}
