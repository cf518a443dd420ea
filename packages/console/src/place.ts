/** Where one is: app, environment, and the state of the page that stands in its address. */
import type { Environment } from '@orchard/contract';
import { createContext, useCallback, useContext } from 'react';
import { useParams, useSearchParams } from 'react-router';

export const PlaceContext = createContext<Environment | null>(null);

export function usePlace() {
  const { app = '', environment = '' } = useParams();
  const details = useContext(PlaceContext);
  return { params: { app, environment }, base: `/${app}/${environment}`, details };
}

/** One parameter of the address, as state: a link to the page shows the same. */
export function useAddressState(name: string, initial = ''): [string, (value: string | null) => void] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback(
    (value: string | null) => {
      // A handler may set two of them; the address itself knows at once what the first one did.
      const before = new URLSearchParams(window.location.search);
      const after = new URLSearchParams(before);
      if (!value || value === initial) after.delete(name);
      else after.set(name, value);
      if (String(after) !== String(before)) setSearch(after);
    },
    [name, initial, setSearch],
  );
  return [search.get(name) ?? initial, set];
}
