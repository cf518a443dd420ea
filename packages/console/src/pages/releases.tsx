/** Releases: what the setup of this environment should become, and how it came to be as it is. */
import { Anchor, Group, Switch, Tabs, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { countsOf } from '@orchard/core';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Moment, PageHead, Trouble } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { ListBody } from '../parts/listPage.js';
import { Comparison } from '../releases/comparison.js';
import { OneRelease, STATE_WORDS } from '../releases/release.js';

const OFTEN_MS = 3_000;

export function ReleasesPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'compare');
  return (
    <>
      <PageHead title="Releases" hint="What this environment should be, what would change, and how it was changed before">
        <FromCode
          calls={[
            coded(operations.setups.read, { params }, 'orchard setup export --out orchard.yaml'),
            coded(operations.setups.compare, { params, body: { setup: { setup: 1 } } }, 'orchard setup compare orchard.yaml'),
            coded(
              operations.setups.apply,
              { params, body: { setup: { setup: 1 }, why: 'Release 2.4' } },
              "orchard setup apply orchard.yaml --why 'Release 2.4'",
            ),
            coded(operations.setups.releases, { params }),
          ]}
        />
      </PageHead>
      <Departure />
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List>
          <Tabs.Tab value="compare">Compare and apply</Tabs.Tab>
          <Tabs.Tab value="history">History</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="compare" pt="md">
          <Comparison />
        </Tabs.Panel>
        <Tabs.Panel value="history" pt="md">
          <Approval />
          <History />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}

/** Where the environment is no longer what its last release made it. */
function Departure() {
  const { params } = useEnvironment();
  const now = useCall(operations.setups.read, { params });
  const departs = now.data?.departs;
  if (!departs || departs.length === 0) return null;
  const names = departs.slice(0, 5).map(({ kind, name }) => (name ? `${kind}/${name}` : kind));
  return (
    <Text mb="md" className="care">
      Changed by hand since the last release: <span className="mono">{names.join(', ')}</span>
      {departs.length > names.length && ` and ${departs.length - names.length} more`}.
    </Text>
  );
}

function Approval() {
  const { params, details } = useEnvironment();
  const settings = useCall(operations.setups.settings, { params });
  const change = useChange(operations.setups.changeSettings);
  return (
    <>
      <Switch
        mb="md"
        label="A second member approves each release"
        checked={settings.data?.approval ?? false}
        disabled={change.isPending || !(details?.role === 'maintainer' || details?.role === 'owner')}
        onChange={({ currentTarget }) => change.mutate({ params, body: { approval: currentTarget.checked } })}
      />
      <Trouble error={change.error} />
    </>
  );
}

function History() {
  const { base } = useEnvironment();
  return (
    <ListBody
      operation={operations.setups.releases}
      refetchInterval={OFTEN_MS}
      label="Releases"
      idOf={({ id }) => id}
      empty={
        <Empty title="No release yet">
          <Text>
            Write down what there is with <span className="mono">orchard setup export --out orchard.yaml</span>, or{' '}
            <Anchor component={Link} to={`${base}/releases`}>
              compare with another environment
            </Anchor>
            .
          </Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'At', render: ({ at }) => <Moment at={at} /> },
        { name: 'by', label: 'By', render: ({ by }) => by.name ?? by.id },
        { name: 'why', label: 'What it is for', render: ({ why }) => why || '—' },
        { name: 'from', label: 'From', render: ({ from }) => <span className="mono">{from ?? 'a file'}</span> },
        {
          name: 'counts',
          label: 'Changes',
          render: ({ counts }) =>
            countsOf((['make', 'change', 'drop'] as const).flatMap((action) => Array.from({ length: counts[action] }, () => ({ action })))),
        },
        {
          name: 'state',
          label: 'State',
          render: ({ state }) => (
            <Group gap="xs" className={state === 'failed' || state === 'returned' ? 'care' : undefined}>
              {STATE_WORDS[state]}
            </Group>
          ),
        },
      ]}
      drawer={{ title: 'Release', size: 'xl', render: (id) => <OneRelease id={id} /> }}
    />
  );
}
