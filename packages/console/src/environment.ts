/** The current app and environment, and page state kept in the address. */
import type { Environment } from '@orchard/contract';
import { createContext, useCallback, useContext } from 'react';
import { useParams, useSearchParams } from 'react-router';

export const EnvironmentContext = createContext<Environment | null>(null);

export function useEnvironment() {
  const { app = '', environment = '' } = useParams();
  const details = useContext(EnvironmentContext);
  return { params: { app, environment }, base: `/${app}/${environment}`, details };
}

/** One parameter of the address as state, so that a link to the page shows the same. */
export function useAddressState(name: string, initial = ''): [string, (value: string | null) => void] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback(
    (value: string | null) => {
      // A handler may set two of them; reading the address itself sees the first change at once.
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
