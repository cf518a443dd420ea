/** The page of a list: head, filter, table, and one open item, all from the listing operation. */
import { Drawer } from '@mantine/core';
import type { CallInput, Operation, ReplyOf } from '@orchard/contract';
import type { ReactNode } from 'react';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { PageHead } from './basics.js';
import type { CodedCall } from './codedCall.js';
import { coded, FromCode } from './fromCode.js';
import { type Column, Listing } from './listing.js';
import { type Preset, useListState } from './listState.js';
import { SaveReport, sourceOfList } from './saveReport.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;
type ItemOf<O> = ReplyOf<O> extends { items: (infer Item)[] } ? Item : never;
const PAGE_SIZE = 40;

export type ListOf<O extends Any> = {
  operation: O;
  /** Query parameters besides filter, sort and page. */
  also?: object;
  /** The accessible name of the table. */
  label: string;
  idOf: (item: ItemOf<O>) => string;
  columns: Column<ItemOf<O>>[];
  empty: ReactNode;
  initialSort?: string;
  /** An example of a filter, where the list takes one. */
  example?: string;
  presets?: Preset[];
  refetchInterval?: number;
  /** One item, shown in the drawer. */
  drawer?: { title: string; size?: 'lg' | 'xl'; render: (id: string, close: () => void, items: ItemOf<O>[]) => ReactNode };
  /** The item's own page, instead of a drawer. */
  onOpen?: (id: string) => void;
};

/** The call of a list with the state of the page: filter, sort and page. */
function useList<O extends Any>({
  operation,
  also,
  initialSort,
  refetchInterval,
}: Pick<ListOf<O>, 'operation' | 'also' | 'initialSort' | 'refetchInterval'>) {
  const { params } = useEnvironment();
  const state = useListState(initialSort);
  const takesQuery = 'filter' in operation.query.shape;
  const paged = { params, ...(takesQuery ? { query: { ...also, ...state.query, limit: PAGE_SIZE } } : {}) } as unknown as CallInput<O>;
  return { state, takesQuery, answer: useCall(operation, paged, refetchInterval ? { refetchInterval } : {}) };
}

/** Filter, table and drawer, for a page with its own head. */
export function ListBody<O extends Any>(list: ListOf<O>) {
  const { state, takesQuery, answer } = useList(list);
  const [openId, setOpen] = useAddressState('open');
  const { drawer } = list;
  const items = ((answer.data as { items?: ItemOf<O>[] } | undefined)?.items ?? []) as ItemOf<O>[];
  const close = () => setOpen(null);
  return (
    <>
      <Listing
        label={list.label}
        state={state}
        answer={answer as never}
        idOf={list.idOf}
        openId={openId}
        onOpen={list.onOpen ?? (drawer && setOpen)}
        example={list.example ?? ''}
        presets={list.presets ?? []}
        filters={takesQuery}
        empty={list.empty}
        columns={list.columns}
      />
      {drawer && (
        <Drawer opened={openId !== ''} onClose={close} position="right" size={drawer.size ?? 'lg'} title={drawer.title}>
          {openId && drawer.render(openId, close, items)}
        </Drawer>
      )}
    </>
  );
}

/**
 * @param calls further calls for “From code”, beside the list itself
 * @param children buttons of the head
 */
export function ListPage<O extends Any>({
  title,
  hint,
  calls = [],
  children,
  above,
  ...list
}: ListOf<O> & { title: string; hint?: ReactNode; calls?: CodedCall[]; children?: ReactNode; above?: ReactNode }) {
  const { params } = useEnvironment();
  const { query } = useListState(list.initialSort);
  const { cursor: _, ...asked } = query;
  const source = sourceOfList(list.operation);
  const input = ('filter' in list.operation.query.shape
    ? { params, query: { ...list.also, ...asked } }
    : { params }) as unknown as CallInput<O>;
  return (
    <>
      <PageHead title={title} hint={hint}>
        {children}
        {source && (
          <SaveReport of={{ source, ...(query.filter ? { filter: query.filter } : {}), ...(query.sort ? { sort: query.sort } : {}) }} />
        )}
        <FromCode calls={[coded(list.operation, input), ...calls]} />
      </PageHead>
      {above}
      <ListBody {...list} />
    </>
  );
}
