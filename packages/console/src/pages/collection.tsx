/** A collection: its records as a table and on a map, fields, rules, indexes and files. */
import { Button, Drawer, Tabs, Text } from '@mantine/core';
import { type Collection, operations, shellWord } from '@orchard/contract';
import { lazy, Suspense } from 'react';
import { useParams } from 'react-router';
import { useCall } from '../api.js';
import { NewRecord, OneRecord } from '../data/drawer.js';
import { Fields } from '../data/fields.js';
import { HooksOn } from '../data/hooks.js';
import { Indexes } from '../data/indexes.js';
import { Rules } from '../data/rules.js';
import { RecordTable } from '../data/table.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { bytes, counted } from '../parts/format.js';
import type { CodedCall } from '../parts/codedCall.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SaveReport } from '../parts/saveReport.js';
import { useListState } from '../parts/listState.js';
import { OutsideTab } from '../outside/facts.js';
import { useAddressState, useEnvironment } from '../environment.js';

// Coastlines and the CSV parser load only when a map or an import is opened.
const MapView = lazy(() => import('../data/mapView.js').then(({ MapView: component }) => ({ default: component })));
const Files = lazy(() => import('../data/files.js').then(({ Files: component }) => ({ default: component })));

/** The address of a record that is being created. */
const NEW = 'new';
const TABS = {
  table: 'Table',
  map: 'Map',
  fields: 'Fields',
  rules: 'Rules',
  indexes: 'Indexes',
  hooks: 'Hooks and uses',
  files: 'Import, export',
  outside: 'Outside table',
} as const;
type Tab = keyof typeof TABS;
/** What a table of another server has. */
const OF_OUTSIDE: ReadonlySet<Tab> = new Set(['table', 'rules', 'outside']);

export function CollectionPage() {
  const { params } = useEnvironment();
  const name = useParams().collection as string;
  const collections = useCall(operations.collections.list, { params });
  return (
    <Loaded of={collections}>
      {({ items }) => {
        const collection = items.find((item) => item.name === name);
        return collection ? (
          <OneCollection key={name} collection={collection} all={items} />
        ) : (
          <Empty title={`There is no collection ${name}`}>
            <Text>It may have another name in this environment.</Text>
          </Empty>
        );
      }}
    </Loaded>
  );
}

function OneCollection({ collection, all }: { collection: Collection; all: Collection[] }) {
  const { params } = useEnvironment();
  const { name, fields } = collection;
  const state = useListState();
  const [openId, setOpen] = useAddressState('open');
  const [tab, setTab] = useAddressState('tab', 'table');
  const places = fields.filter(({ type }) => type === 'place');
  const [place, setPlace] = useAddressState('place', places[0]?.name ?? '');
  const { outside } = collection;
  const tabs = (Object.keys(TABS) as Tab[]).filter((one) =>
    outside ? OF_OUTSIDE.has(one) : one !== 'outside' && (one !== 'map' || places.length > 0),
  );
  return (
    <>
      <PageHead
        title={name}
        hint={
          outside
            ? `About ${counted(collection.records, 'row')} of ${outside.table} on ${outside.server}`
            : `${counted(collection.records, 'record')}, ${counted(fields.length, 'field')}, ${bytes(collection.bytes)}`
        }
      >
        <SaveReport of={{ source: 'records', collection: name, ...(state.filter ? { filter: state.filter } : {}) }} />
        <FromCode calls={callsOf(tab as Tab, collection, state.filter, params)} />
        {(!outside || outside.writable) && <Button onClick={() => setOpen(NEW)}>Add record</Button>}
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          {tabs.map((one) => (
            <Tabs.Tab key={one} value={one}>
              {TABS[one]}
            </Tabs.Tab>
          ))}
        </Tabs.List>
        <Tabs.Panel value="table">
          <RecordTable collection={collection} all={all} state={state} openId={openId} onOpen={setOpen} />
        </Tabs.Panel>
        <Tabs.Panel value="map">
          {places.length > 1 && (
            <Tabs value={place} onChange={setPlace} variant="pills" mb="xs">
              <Tabs.List>
                {places.map((field) => (
                  <Tabs.Tab key={field.name} value={field.name}>
                    {field.name}
                  </Tabs.Tab>
                ))}
              </Tabs.List>
            </Tabs>
          )}
          <Suspense>
            <MapView collection={collection} all={all} field={place} state={state} onOpen={setOpen} />
          </Suspense>
        </Tabs.Panel>
        <Tabs.Panel value="fields">
          <Fields collection={collection} all={all} />
        </Tabs.Panel>
        <Tabs.Panel value="rules">
          <Rules collection={collection} all={all} />
        </Tabs.Panel>
        {outside && (
          <Tabs.Panel value="outside">
            <OutsideTab collection={collection} outside={outside} />
          </Tabs.Panel>
        )}
        <Tabs.Panel value="hooks">
          <HooksOn collection={name} />
        </Tabs.Panel>
        <Tabs.Panel value="indexes">
          <Indexes collection={collection} />
        </Tabs.Panel>
        <Tabs.Panel value="files">
          <Suspense>
            <Files collection={collection} filter={state.filter} />
          </Suspense>
        </Tabs.Panel>
      </Tabs>
      <Drawer
        opened={openId !== ''}
        onClose={() => setOpen(null)}
        position="right"
        size="lg"
        title={openId === NEW ? `New record in ${name}` : `${name} / ${openId}`}
      >
        {openId === NEW && <NewRecord collection={collection} onMade={setOpen} />}
        {openId && openId !== NEW && <OneRecord collection={collection} all={all} id={openId} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}

/** The calls behind a tab as commands and code, with the page's values. */
/** The calls behind a tab, for “From code”. */
function callsOf(tab: Tab, { name, rules }: Collection, filter: string, place: { app: string; environment: string }): CodedCall[] {
  const params = { ...place, collection: name };
  const query = filter ? { filter } : {};
  const where = `--app ${place.app} --env ${place.environment}`;
  const { collections, managedRecords } = operations;
  switch (tab) {
    case 'fields':
      return [coded(collections.read, { params }), coded(collections.schema, { params })];
    case 'rules':
      return [
        coded(
          collections.patch,
          { params, body: { rules: { read: rules.read } } },
          `orchard collection rules ${name} --read ${shellWord(rules.read)} ${where}`,
        ),
      ];
    case 'outside':
      return [coded(operations.outside.checkTable, { params })];
    case 'indexes':
      return [coded(collections.advice, { params }), coded(collections.addIndex, { params, body: { fields: ['createdAt'] } })];
    case 'files':
      return [coded(collections.exportRecords, { params, query: { format: 'csv', ...query } })];
    default:
      return [coded(managedRecords.list, { params, query }), coded(managedRecords.live, { params, query })];
  }
}
