/**
 * A list as a table: filter in CQL2, sort at the column heads, pages, one item in the drawer. The address holds all of this
 * state.
 */
import { Button, Group, Text } from '@mantine/core';
import { IconArrowDown, IconArrowUp } from '@tabler/icons-react';
import type { ReactNode } from 'react';
import type { UseQueryResult } from '@tanstack/react-query';
import { Problem } from '@orchard/contract';
import { describeError } from '../api.js';
import { Loaded } from './basics.js';
import { FilterBar, type Names } from './filterBar.js';
import type { ListState, Preset, useListState } from './listState.js';
import { useNews } from './news.js';

export type Column<T> = {
  name: string;
  label: string;
  render: (item: T) => ReactNode;
  sortable?: boolean;
  right?: boolean;
  /** An editor for the value, if it can be edited in place. */
  cell?: (item: T) => ReactNode;
};
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
  /** Absent if an item has no details. */
  onOpen?: ((id: string) => void) | undefined;
  /** Whether the list has a filter bar. */
  filters?: boolean;
  label: string;
  /** Fields, for completion in the filter bar. */
  names?: Names;
  /** Items that have just changed elsewhere, if the page knows them from another source. */
  fresh?: ReadonlySet<string>;
  /** Beside the filter. */
  tools?: ReactNode;
};

export function Listing<T>({
  state,
  answer,
  columns,
  idOf,
  presets = [],
  example,
  empty,
  openId,
  onOpen,
  label,
  names,
  fresh,
  tools,
  filters = true,
}: ListingProps<T>) {
  const news = useNews(answer.isPlaceholderData ? undefined : answer.data?.items, idOf, JSON.stringify(state.query));
  const wrongFilter =
    answer.error instanceof Problem && (answer.error.problem === 'malformed-filter' || answer.error.problem === 'invalid-input');
  return (
    <>
      {filters && (
        <FilterBar state={state} presets={presets} example={example} error={wrongFilter ? describeError(answer.error) : null} names={names}>
          {tools}
        </FilterBar>
      )}
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
                        <tr
                          key={idOf(item)}
                          data-open={idOf(item) === openId || undefined}
                          data-fresh={(fresh ?? news).has(idOf(item)) || undefined}
                        >
                          {columns.map((column, i) => (
                            <td key={column.name} className={column.right ? 'right' : undefined}>
                              {i === 0 && onOpen ? (
                                <button type="button" className="open" onClick={() => onOpen(idOf(item))}>
                                  {column.render(item)}
                                </button>
                              ) : column.cell ? (
                                column.cell(item)
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
                    No match for this filter.
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
