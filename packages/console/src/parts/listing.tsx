/** A list as a table: filter in CQL2, sort at the column heads, pages, one item open beside it. All of it stands in the address. */
import { Button, Chip, Group, Text, TextInput } from '@mantine/core';
import { useDebouncedCallback } from '@mantine/hooks';
import { IconArrowDown, IconArrowUp, IconFilter } from '@tabler/icons-react';
import { type ReactNode, useEffect, useState } from 'react';
import type { UseQueryResult } from '@tanstack/react-query';
import { Problem } from '@orchard/contract';
import { useAddressState } from '../place.js';
import { describeError } from '../api.js';
import { Loaded } from './basics.js';

export type Column<T> = { name: string; label: string; render: (item: T) => ReactNode; sortable?: boolean; right?: boolean };
export type Preset = { label: string; filter: string };
export type ListState = {
  filter: string;
  sort: string;
  cursor: string;
  setFilter: (text: string | null) => void;
  setSort: (text: string | null) => void;
  query: { filter?: string; sort?: string; cursor?: string };
};

/** The list's part of the address, and the query it makes. */
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

type ListingProps<T> = {
  state: ReturnType<typeof useListState>;
  answer: UseQueryResult<{ items: T[]; next?: string }>;
  columns: Column<T>[];
  idOf: (item: T) => string;
  presets?: Preset[];
  /** An example that shows what a filter looks like. */
  example: string;
  empty: ReactNode;
  openId: string;
  onOpen: (id: string) => void;
  label: string;
};

export function Listing<T>({ state, answer, columns, idOf, presets = [], example, empty, openId, onOpen, label }: ListingProps<T>) {
  const wrongFilter =
    answer.error instanceof Problem && (answer.error.problem === 'malformed-filter' || answer.error.problem === 'invalid-input');
  return (
    <>
      <FilterBar state={state} presets={presets} example={example} error={wrongFilter ? describeError(answer.error) : null} />
      {!wrongFilter && (
        <Loaded of={answer}>
          {({ items, next }) =>
            items.length === 0 && !state.filter && !state.cursor ? (
              empty
            ) : (
              <>
                <section className="listing" aria-label={label}>
                  <table>
                    <thead>
                      <tr>
                        {columns.map((column) => (
                          <Head key={column.name} column={column} state={state} />
                        ))}
                      </tr>
                    </thead>
                    <tbody>
                      {items.map((item) => (
                        <tr key={idOf(item)} data-open={idOf(item) === openId || undefined}>
                          {columns.map((column, i) => (
                            <td key={column.name} className={column.right ? 'right' : undefined}>
                              {i === 0 ? (
                                <button type="button" className="open" onClick={() => onOpen(idOf(item))}>
                                  {column.render(item)}
                                </button>
                              ) : (
                                column.render(item)
                              )}
                            </td>
                          ))}
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </section>
                {items.length === 0 && (
                  <Text py="md" c="dimmed">
                    Nothing fits this filter.
                  </Text>
                )}
                <Group mt="sm" gap="xs">
                  {state.page.cursor && (
                    <Button variant="default" size="xs" onClick={() => state.page.setCursor(null)}>
                      First page
                    </Button>
                  )}
                  {next && (
                    <Button variant="default" size="xs" onClick={() => state.page.setCursor(next)}>
                      Next page
                    </Button>
                  )}
                </Group>
              </>
            )
          }
        </Loaded>
      )}
    </>
  );
}

function Head<T>({ column, state }: { column: Column<T>; state: ListState }) {
  const up = state.sort === column.name;
  const down = state.sort === `-${column.name}`;
  if (!column.sortable)
    return (
      <th className={column.right ? 'right' : undefined} scope="col">
        {column.label}
      </th>
    );
  return (
    <th className={column.right ? 'right' : undefined} scope="col" aria-sort={up ? 'ascending' : down ? 'descending' : 'none'}>
      <button type="button" onClick={() => state.setSort(down ? column.name : `-${column.name}`)}>
        {column.label}
        {up && <IconArrowUp size={13} />}
        {down && <IconArrowDown size={13} />}
      </button>
    </th>
  );
}

function FilterBar({ state, presets, example, error }: { state: ListState; presets: Preset[]; example: string; error: string | null }) {
  const [text, setText] = useState(state.filter);
  useEffect(() => setText(state.filter), [state.filter]);
  const apply = useDebouncedCallback((value: string) => state.setFilter(value), 600);
  return (
    <Group mb="sm" align="flex-start" gap="sm">
      <form
        style={{ flex: '1 1 20rem', maxWidth: '44rem' }}
        onSubmit={(event) => {
          event.preventDefault();
          state.setFilter(text);
        }}
      >
        <TextInput
          aria-label="Filter"
          placeholder={example}
          value={text}
          error={error}
          classNames={{ input: 'mono' }}
          leftSection={<IconFilter size={16} />}
          onChange={({ currentTarget }) => {
            setText(currentTarget.value);
            apply(currentTarget.value);
          }}
        />
      </form>
      <Group gap={6} pt={4}>
        {presets.map((preset) => (
          <Chip
            key={preset.label}
            size="xs"
            checked={state.filter === preset.filter}
            onChange={(on) => state.setFilter(on ? preset.filter : null)}
          >
            {preset.label}
          </Chip>
        ))}
      </Group>
    </Group>
  );
}
