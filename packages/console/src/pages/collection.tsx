/** The records of a collection: look, edit, add, delete; its rules and fields. */
import { Button, Drawer, Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type Collection, type OrchardRecord, operations } from '@orchard/contract';
import { ACCESS_RULES, FIELD_TYPES, type FieldType, type Json, RECORD_ACTIONS } from '@orchard/core';
import { useState } from 'react';
import { useParams } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Code, count, Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { type Column, Listing, useListState } from '../parts/listing.js';
import { useAddressState, usePlace } from '../place.js';
import { RecordForm } from '../parts/recordForm.js';

const SHOWN_FIELDS = 6;
/** What stands in the address for a record that is still to be written. */
const NEW = 'new';

export function showValue(value: Json | undefined): string {
  if (value === null || value === undefined) return '';
  if (typeof value === 'object' && !Array.isArray(value) && value.type === 'Point') {
    const [longitude, latitude] = value.coordinates as [number, number];
    return `${Math.abs(latitude).toFixed(3)}° ${latitude < 0 ? 'S' : 'N'}, ${Math.abs(longitude).toFixed(3)}° ${longitude < 0 ? 'W' : 'E'}`;
  }
  if (Array.isArray(value) && value.every((item) => typeof item === 'string')) return value.join(', ');
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}

export function CollectionPage() {
  const { params } = usePlace();
  const name = useParams().collection as string;
  const collections = useCall(operations.collections.list, { params });
  return (
    <Loaded of={collections}>
      {({ items }) => {
        const collection = items.find((item) => item.name === name);
        return collection ? (
          <Records collection={collection} />
        ) : (
          <Empty title={`There is no collection ${name}`}>
            <Text>It may have another name in this environment.</Text>
          </Empty>
        );
      }}
    </Loaded>
  );
}

function Records({ collection }: { collection: Collection }) {
  const { params } = usePlace();
  const { name, fields } = collection;
  const state = useListState();
  const [openId, setOpen] = useAddressState('open');
  const [schemaOpen, schema] = useDisclosure();
  const records = useCall(operations.managedRecords.list, {
    params: { ...params, collection: name },
    query: { ...state.query, limit: 40 },
  });
  const isNumber = (type: FieldType) => type === 'integer' || type === 'number';
  const columns: Column<OrchardRecord>[] = [
    {
      name: 'id',
      label: 'id',
      sortable: true,
      render: ({ id }) => <span className="mono">{id.length > 20 ? `…${id.slice(-12)}` : id}</span>,
    },
    ...fields.slice(0, SHOWN_FIELDS).map(
      ({ name: field, type }): Column<OrchardRecord> => ({
        name: field,
        label: field,
        sortable: !['place', 'list', 'object'].includes(type),
        right: isNumber(type),
        render: (record) => <span className={isNumber(type) ? 'mono' : undefined}>{showValue(record[field] as Json)}</span>,
      }),
    ),
    { name: 'version', label: 'Version', sortable: true, right: true, render: ({ version }) => <span className="mono">{version}</span> },
    { name: 'updatedAt', label: 'Changed', sortable: true, render: ({ updatedAt }) => <Moment at={updatedAt} /> },
  ];
  const example = fields.find(({ type }) => isNumber(type));
  return (
    <>
      <PageHead title={name} hint={`${count(collection.records)} records, ${fields.length} fields`}>
        <FromCode
          same={{
            command: `orchard record list ${name} --app ${params.app} --env ${params.environment}${state.filter ? ` --filter "${state.filter}"` : ''}`,
            method: 'GET',
            path: `/app/v1/data/${name}${state.filter ? `?filter=${encodeURIComponent(state.filter)}` : ''}`,
            library: `const { items } = await orchard.collection('${name}').list({ filter: ${JSON.stringify(state.filter)} });`,
          }}
        />
        <Button variant="default" onClick={schema.open}>
          Rules and fields
        </Button>
        <Button onClick={() => setOpen(NEW)}>New record</Button>
      </PageHead>
      <Listing
        label={`Records of ${name}`}
        state={state}
        answer={records}
        columns={columns}
        idOf={({ id }) => id}
        openId={openId}
        onOpen={setOpen}
        example={example ? `${example.name} > 2` : "createdAt > '2026-01-01T00:00:00Z'"}
        empty={
          <Empty title="No records yet">
            <Text>Add one here, or from the terminal:</Text>
            <Code>{`orchard record add ${name} '{}'`}</Code>
          </Empty>
        }
      />
      <Drawer
        opened={openId !== ''}
        onClose={() => setOpen(null)}
        position="right"
        size="lg"
        title={openId === NEW ? `New record in ${name}` : `${name} / ${openId}`}
      >
        {openId === NEW && <NewRecord collection={collection} onMade={setOpen} />}
        {openId && openId !== NEW && <OneRecord collection={collection} id={openId} onGone={() => setOpen(null)} />}
      </Drawer>
      <Drawer opened={schemaOpen} onClose={schema.close} position="right" size="lg" title={`Rules and fields of ${name}`}>
        <Schema collection={collection} />
      </Drawer>
    </>
  );
}

const REFRESH = ['managedRecords.', 'collections.'];

function NewRecord({ collection, onMade }: { collection: Collection; onMade: (id: string) => void }) {
  const { params, details } = usePlace();
  const create = useChange(operations.managedRecords.create, REFRESH);
  return (
    <Stack>
      <RecordForm
        fields={collection.fields}
        record={null}
        open={details?.mode === 'open'}
        saving={create.isPending}
        saveLabel="Store"
        onSave={(body) =>
          create.mutate({ params: { ...params, collection: collection.name }, body }, { onSuccess: ({ id }) => onMade(id) })
        }
      />
      <Trouble error={create.error} />
    </Stack>
  );
}

function OneRecord({ collection, id, onGone }: { collection: Collection; id: string; onGone: () => void }) {
  const { params, details } = usePlace();
  const at = { ...params, collection: collection.name, id };
  const record = useCall(operations.managedRecords.read, { params: at });
  const patch = useChange(operations.managedRecords.patch, REFRESH);
  const remove = useChange(operations.managedRecords.remove, REFRESH);
  return (
    <Loaded of={record}>
      {(current) => (
        <Stack>
          <Text size="sm" c="dimmed">
            Version {current.version}, made <Moment at={current.createdAt} />, changed <Moment at={current.updatedAt} />
            {current.ownerId ? (
              <>
                , owned by <span className="mono">{current.ownerId}</span>
              </>
            ) : (
              ', owned by nobody'
            )}
          </Text>
          <RecordForm
            key={`${id} ${current.version}`}
            fields={collection.fields}
            record={current}
            open={details?.mode === 'open'}
            saving={patch.isPending}
            saveLabel="Save"
            onSave={(body) => patch.mutate({ params: at, body, headers: { 'If-Match': `"${current.version}"` } })}
          />
          <Trouble error={patch.error} />
          <Group justify="flex-end">
            <ConfirmedButton
              label="Delete this record"
              verb="Delete"
              question="Delete this record?"
              consequence={`${collection.name} / ${id} goes for good.`}
              change={remove}
              onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
            />
          </Group>
        </Stack>
      )}
    </Loaded>
  );
}

const ACTION_WORDS = { read: 'Read', create: 'Create', update: 'Change', delete: 'Delete' } as const;

function Schema({ collection }: { collection: Collection }) {
  const { params } = usePlace();
  const at = { ...params, collection: collection.name };
  const patch = useChange(operations.collections.patch, ['collections.']);
  const [field, setField] = useState('');
  const [type, setType] = useState<FieldType>('text');
  return (
    <Stack gap="lg">
      <section>
        <Title order={2} mb={4}>
          Who may
        </Title>
        <Text size="sm" c="dimmed" mb="sm">
          These bind calls with a client key. Server keys and members stand above them.
        </Text>
        <Stack gap="xs">
          {RECORD_ACTIONS.map((action) => (
            <NativeSelect
              key={action}
              label={ACTION_WORDS[action]}
              value={collection.rules[action]}
              disabled={patch.isPending}
              data={Object.entries(ACCESS_RULES).map(([rule, words]) => ({ value: rule, label: `${words}   ${rule}` }))}
              onChange={({ currentTarget }) => patch.mutate({ params: at, body: { rules: { [action]: currentTarget.value } } })}
            />
          ))}
        </Stack>
      </section>
      <section>
        <Title order={2} mb={4}>
          Fields
        </Title>
        <div className="listing">
          <table>
            <thead>
              <tr>
                <th scope="col">Field</th>
                <th scope="col">Type</th>
              </tr>
            </thead>
            <tbody>
              {collection.fields.map((item) => (
                <tr key={item.name}>
                  <td className="mono">{item.name}</td>
                  <td>{item.type}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            patch.mutate({ params: at, body: { addFields: [{ name: field, type }] } }, { onSuccess: () => setField('') });
          }}
        >
          <Group align="flex-end" mt="sm">
            <TextInput label="New field" required value={field} onChange={({ currentTarget }) => setField(currentTarget.value)} />
            <NativeSelect
              label="Type"
              value={type}
              onChange={({ currentTarget }) => setType(currentTarget.value as FieldType)}
              data={[...FIELD_TYPES]}
            />
            <Button type="submit" variant="default">
              Add
            </Button>
          </Group>
        </form>
      </section>
      <Trouble error={patch.error} />
    </Stack>
  );
}
