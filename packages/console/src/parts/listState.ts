/** List state in the address: filter, sort and page. */
import { useAddressState } from '../environment.js';

export type Preset = { label: string; filter: string };
export type ListState = {
  filter: string;
  sort: string;
  cursor: string;
  setFilter: (text: string | null) => void;
  setSort: (text: string | null) => void;
  query: { filter?: string; sort?: string; cursor?: string };
};

/** The list state in the address, and the query made from it. */
export function useListState(initialSort = ''): ListState & { page: PageState } {
  const [filter, setFilter] = useAddressState('filter');
  const [sort, setSort] = useAddressState('sort', initialSort);
  const [cursor, setCursor] = useAddressState('cursor');
  return {
    filter,
    sort,
    cursor,
    setFilter: (text) => {
      setCursor(null);
      setFilter(text);
    },
    setSort: (text) => {
      setCursor(null);
      setSort(text);
    },
    query: { ...(filter ? { filter } : {}), ...(sort ? { sort } : {}), ...(cursor ? { cursor } : {}) },
    page: { cursor, setCursor },
  };
}
type PageState = { cursor: string; setCursor: (cursor: string | null) => void };
