/** Saved views: filter, sort and page of a collection under a name, for the whole team. */
import { operations } from '@orchard/contract';
import { useCall, useChange } from '../api.js';
import { SavedStates } from '../parts/saved.js';

const KEPT = ['filter', 'sort', 'tab'];

export function SavedViews({ at }: { at: { app: string; environment: string; collection: string } }) {
  const views = useCall(operations.collections.views, { params: at });
  const remove = useChange(operations.collections.removeView, [operations.collections.views]);
  return (
    <SavedStates
      items={views.data?.items ?? []}
      kept={KEPT}
      noun="view"
      onRemove={(view) => remove.mutate({ params: { ...at, view } })}
      save={operations.collections.saveView}
      inputOf={(name, query) => ({ params: at, body: { name, query } })}
      stale={operations.collections.views}
    />
  );
}
