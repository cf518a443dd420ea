/** The records of a collection as a table that is edited in place. */
import { Alert, Anchor, Button, Group, Text } from '@mantine/core';
import { useHotkeys } from '@mantine/hooks';
import { type Collection, operations, type OrchardRecord } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { IconArrowBackUp } from '@tabler/icons-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Code, Empty, Moment, Trouble } from '../parts/basics.js';
import { type Column, Listing } from '../parts/listing.js';
import type { useListState } from '../parts/listState.js';
import { useEnvironment } from '../environment.js';
import { Cell, isEditable } from './cell.js';
import { useFresh } from './fresh.js';
import { namesOf, searchedFields } from './names.js';
import { FOUND, SearchBox, splitSearch } from './searching.js';
import { showValue } from './value.js';
import { SavedViews } from './views.js';

const SHOWN_FIELDS = 7;
const REMEMBERED_EDITS = 50;
type Edit = { id: string; field: string; from: Json; to: Json; version: number };

export function RecordTable({
  collection,
  all,
  state,
  openId,
  onOpen,
}: {
  collection: Collection;
  all: Collection[];
  state: ReturnType<typeof useListState>;
  openId: string;
  onOpen: (id: string) => void;
}) {
  const { params, base } = useEnvironment();
  const at = { ...params, collection: collection.name };
  const searched = searchedFields(collection);
  const { words } = splitSearch(state.filter);
  const records = useCall(operations.managedRecords.list, {
    params: at,
    query: { ...state.query, limit: 40, ...(words ? { excerpts: 'true' } : {}) },
  });
  const { fresh, mine } = useFresh(at, state.filter);
  const { edits, store, undo, error } = useEdits(at, mine);
  const [id, ...others] = columnsOf(collection, base, store) as [Column<OrchardRecord>, ...Column<OrchardRecord>[]];
  // What was found stands for the texts that were searched.
  const columns = words ? [id, FOUND, ...others.filter(({ name }) => !searched.includes(name))] : [id, ...others];

  const example = collection.fields.find(({ type }) => type === 'integer' || type === 'number');
  return (
    <>
      <Listing
        label={`Records of ${collection.name}`}
        state={state}
        answer={records}
        columns={columns}
        idOf={({ id }) => id}
        openId={openId}
        onOpen={onOpen}
        names={namesOf(collection, all)}
        fresh={fresh}
        tools={
          <>
            {searched.length > 0 && (
              <SearchBox key={words} fields={searched} filter={state.filter} onFilter={(filter) => state.setFilter(filter || null)} />
            )}
            <SavedViews at={at} />
          </>
        }
        example={example ? `${example.name} > 2` : "createdAt > '2026-01-01T00:00:00Z'"}
        empty={
          <Empty title="No records yet">
            <Text>Add one here, or from the terminal:</Text>
            <Code>{`orchard record add ${collection.name} '{}'`}</Code>
          </Empty>
        }
      />
      <Trouble error={error} />
      {edits.length > 0 && <LastEdit edit={edits.at(-1) as Edit} count={edits.length} onUndo={undo} />}
    </>
  );
}

function LastEdit({ edit, count, onUndo }: { edit: Edit; count: number; onUndo: () => void }) {
  const said = (value: Json) => (value === null ? 'no value' : showValue(value));
  return (
    <Alert mt="sm" role="status" variant="outline" color="viridian" maw={640} py={6} className="last-edit">
      <Group justify="space-between">
        <Text size="sm">
          <span className="mono">{edit.field}</span> of <span className="mono">{edit.id.slice(-12)}</span>: {said(edit.from)} →{' '}
          {said(edit.to)}
          {count > 1 && `, and ${count - 1} before`}
        </Text>
        <Button size="compact-xs" variant="default" leftSection={<IconArrowBackUp size={14} />} onClick={onUndo}>
          Undo
        </Button>
      </Group>
    </Alert>
  );
}

/** Stores edits one by one, each over the version it was made on, and undoes them in reverse order. */
function useEdits(at: { app: string; environment: string; collection: string }, mine: (id: string, version: number) => void) {
  const [edits, setEdits] = useState<Edit[]>([]);
  const patch = useChange(operations.managedRecords.patch);
  function write(id: string, version: number, field: string, value: Json, done: (version: number) => void): void {
    mine(id, version + 1);
    patch.mutate(
      { params: { ...at, id }, body: { [field]: value }, headers: { 'If-Match': `"${version}"` } },
      { onSuccess: (record) => done(record.version) },
    );
  }
  const store = (record: OrchardRecord, field: string, value: Json) =>
    write(record.id, record.version, field, value, (version) =>
      setEdits((before) => [
        ...before.slice(-REMEMBERED_EDITS + 1),
        { id: record.id, field, from: (record[field] as Json) ?? null, to: value, version },
      ]),
    );
  function undo(): void {
    const last = edits.at(-1);
    if (!last) return;
    write(last.id, last.version, last.field, last.from, (version) =>
      // Earlier edits of the same record now refer to the version that the undo created.
      setEdits((before) => before.slice(0, -1).map((edit) => (edit.id === last.id ? { ...edit, version } : edit))),
    );
  }
  useHotkeys([['mod+Z', undo]]);
  return { edits, store, undo, error: patch.error };
}

const shortId = (id: string) => (id.length > 20 ? `…${id.slice(-12)}` : id);

function columnsOf(
  { fields }: Collection,
  base: string,
  store: (record: OrchardRecord, field: string, value: Json) => void,
): Column<OrchardRecord>[] {
  return [
    {
      name: 'id',
      label: 'id',
      sortable: true,
      render: ({ id }) => <span className="mono">{shortId(id)}</span>,
    },
    ...fields.slice(0, SHOWN_FIELDS).map((field): Column<OrchardRecord> => {
      const show = (record: OrchardRecord) => showValue(record[field.name] as Json);
      return {
        name: field.name,
        label: field.name,
        sortable: isEditable(field),
        right: field.type === 'integer' || field.type === 'number',
        render: show,
        cell: (record) => {
          if (field.type === 'reference' && record[field.name])
            return (
              <Anchor
                component={Link}
                size="sm"
                className="mono"
                to={`${base}/${field.to === 'users' ? 'users' : `data/${field.to}`}?open=${encodeURIComponent(String(record[field.name]))}`}
              >
                {shortId(show(record))}
              </Anchor>
            );
          return isEditable(field) ? (
            <Cell key={record.version} field={field} record={record} onStore={(value) => store(record, field.name, value)} />
          ) : (
            show(record)
          );
        },
      };
    }),
    { name: 'version', label: 'Version', sortable: true, right: true, render: ({ version }) => <span className="mono">{version}</span> },
    { name: 'updatedAt', label: 'Changed', sortable: true, render: ({ updatedAt }) => <Moment at={updatedAt} /> },
  ];
}
