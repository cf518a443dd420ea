/** A collection: its records as a table and on a map, fields, rules, indexes and files. */
import { Button, Drawer, Tabs, Text } from '@mantine/core';
import { type Collection, operations } from '@orchard/contract';
import { lazy, Suspense } from 'react';
import { useParams } from 'react-router';
import { useCall } from '../api.js';
import { NewRecord, OneRecord } from '../data/drawer.js';
import { Fields } from '../data/fields.js';
import { Indexes } from '../data/indexes.js';
import { Rules } from '../data/rules.js';
import { RecordTable } from '../data/table.js';
import { count, Empty, Loaded, PageHead } from '../parts/basics.js';
import { FromCode, type SameFrom } from '../parts/fromCode.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';
import { bytes } from './collections.js';

// Coastlines and the reader of CSV are fetched by those who look at a map or import a file.
const MapView = lazy(() => import('../data/mapView.js').then(({ MapView: component }) => ({ default: component })));
const Files = lazy(() => import('../data/files.js').then(({ Files: component }) => ({ default: component })));

const several = (number: number, noun: string) => `${count(number)} ${noun}${number === 1 ? '' : 's'}`;
/** What stands in the address for a record that is still to be written. */
const NEW = 'new';
const TABS = { table: 'Table', map: 'Map', fields: 'Fields', rules: 'Rules', indexes: 'Indexes', files: 'Import, export' } as const;
type Tab = keyof typeof TABS;

export function CollectionPage() {
  const { params } = usePlace();
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
  const { params } = usePlace();
  const { name, fields } = collection;
  const state = useListState();
  const [openId, setOpen] = useAddressState('open');
  const [tab, setTab] = useAddressState('tab', 'table');
  const places = fields.filter(({ type }) => type === 'place');
  const [place, setPlace] = useAddressState('place', places[0]?.name ?? '');
  const tabs = (Object.keys(TABS) as Tab[]).filter((one) => one !== 'map' || places.length > 0);
  return (
    <>
      <PageHead
        title={name}
        hint={`${several(collection.records, 'record')}, ${several(fields.length, 'field')}, ${bytes(collection.bytes)}`}
      >
        <FromCode same={sameFrom(tab as Tab, collection, state.filter, params)} />
        <Button onClick={() => setOpen(NEW)}>New record</Button>
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

/** The same as the tab from the terminal and from code, with the page's own values. */
function sameFrom(
  tab: Tab,
  { name, rules }: Collection,
  filter: string,
  { app, environment }: { app: string; environment: string },
): SameFrom {
  const place = `--app ${app} --env ${environment}`;
  const managed = `/manage/v1/apps/${app}/environments/${environment}/collections/${name}`;
  const quoted = filter ? ` --filter "${filter}"` : '';
  switch (tab) {
    case 'fields':
      return {
        command: `orchard collection show ${name} ${place}\norchard collection schema ${name} ${place} > ${name}.schema.json\norchard collection schema ${name} --set ${name}.schema.json --preview ${place}`,
        method: 'GET',
        path: `${managed}/schema`,
      };
    case 'rules':
      return {
        command: `orchard collection rules ${name} --read "${rules.read}" ${place}\norchard collection try ${name} read <id> --user <user id> ${place}`,
        method: 'PATCH',
        path: managed,
        body: { rules: { read: rules.read } },
      };
    case 'indexes':
      return {
        command: `orchard collection advice ${name} ${place}\norchard collection add-index ${name} <fields> ${place}`,
        method: 'GET',
        path: `${managed}/advice`,
      };
    case 'files':
      return {
        command: `orchard record import ${name} ${name}.csv ${place}\norchard record export ${name} ${name}.csv${quoted} ${place}`,
        method: 'GET',
        path: `${managed}/export?format=csv${filter ? `&filter=${encodeURIComponent(filter)}` : ''}`,
      };
    default:
      return {
        command: `orchard record list ${name} ${place}${quoted}\norchard record watch ${name} ${place}${quoted}`,
        method: 'GET',
        path: `/app/v1/data/${name}${filter ? `?filter=${encodeURIComponent(filter)}` : ''}`,
        library: `const ${name} = orchard.collection('${name}');\nconst { items } = await ${name}.list({ filter: ${JSON.stringify(filter)} });\n\n// as it changes\nconst stop = ${name}.watch({ filter: ${JSON.stringify(filter)} }, ({ event, data }) => console.log(event, data));`,
      };
  }
}
