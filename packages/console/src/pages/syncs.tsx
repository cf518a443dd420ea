/** Sync: which devices keep records at hand, how far each is, and what holds it up. */
import { Anchor, Stack, Text } from '@mantine/core';
import { type DeviceSync, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN } from '../api.js';
import { Code, Empty, Facts, Moment } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { useEnvironment } from '../environment.js';

const DECLARE = `await orchard.sync.declare([{ collection: 'bookings', bring: ['hut'] }]);`;

export function SyncPage() {
  return (
    <ListPage
      title="Sync"
      hint="Devices that keep records at hand, and what they wrote without a signal"
      operation={operations.sync.devices}
      {...OFTEN}
      label="Devices that sync"
      initialSort="-at"
      idOf={({ device }) => device}
      example="pending > 0"
      presets={[
        { label: 'Changes waiting', filter: 'pending > 0' },
        { label: 'Conflicts', filter: 'conflicts > 0' },
        { label: 'In trouble', filter: 'problem IS NOT NULL' },
      ]}
      empty={
        <Empty title="No device has synced yet">
          <Text>An app says with the client library what it keeps, and registers its device:</Text>
          <Code>{DECLARE}</Code>
        </Empty>
      }
      columns={[
        {
          name: 'device',
          label: 'Device',
          render: ({ device }) => (
            <span className="mono" title={device}>
              {device.length > 16 ? `${device.slice(0, 14)}…` : device}
            </span>
          ),
        },
        { name: 'client', label: 'Client', sortable: true, render: ({ client, appVersion }) => `${client ?? ''} ${appVersion}` },
        { name: 'at', label: 'Last sync', sortable: true, render: ({ at }) => <Moment at={at} /> },
        {
          name: 'number',
          label: 'Behind',
          right: true,
          sortable: true,
          render: ({ behind }) => (behind === 0 ? 'up to date' : counted(behind, 'change')),
        },
        { name: 'pending', label: 'Waiting', right: true, sortable: true, render: ({ pending }) => pending ?? '—' },
        { name: 'conflicts', label: 'Conflicts', right: true, sortable: true, render: ({ conflicts }) => conflicts ?? '—' },
        { name: 'taken', label: 'Taken', right: true, sortable: true, render: ({ taken }) => count(taken) },
        {
          name: 'refused',
          label: 'Refused',
          right: true,
          sortable: true,
          render: ({ refused }) => <span className={refused > 0 ? 'care' : undefined}>{count(refused)}</span>,
        },
      ]}
      drawer={{
        title: 'Sync of a device',
        render: (id, _close, items) => {
          const found = items.find(({ device }) => device === id);
          return found && <OneSync sync={found} />;
        },
      }}
    />
  );
}

function OneSync({ sync }: { sync: DeviceSync }) {
  const { base } = useEnvironment();
  const at = (page: string, field: string, value: string) => `${base}/${page}?filter=${encodeURIComponent(`${field} = '${value}'`)}`;
  return (
    <Stack>
      {sync.problem && (
        <Text className="care" fw={600}>
          {sync.problem}
        </Text>
      )}
      <Facts
        of={[
          [
            'Device',
            <Anchor key="d" component={Link} to={`${base}/devices?open=${sync.device}`} className="mono">
              {sync.device}
            </Anchor>,
          ],
          [
            'User',
            sync.userId && (
              <Anchor key="u" component={Link} to={`${base}/users?open=${sync.userId}`} className="mono">
                {sync.userId}
              </Anchor>
            ),
          ],
          ['App version', sync.appVersion],
          ['Last sync', <Moment key="a" at={sync.at} />],
          [
            'Behind',
            sync.behind === 0 ? 'up to date' : `${counted(sync.behind, 'change')} of the environment, some of which may not concern it`,
          ],
          ['Scopes', count(sync.scopes)],
          ['Changes waiting', sync.pending === null ? 'it did not say' : count(sync.pending)],
          ['Conflicts not settled', sync.conflicts === null ? 'it did not say' : count(sync.conflicts)],
          ['Changes taken', count(sync.taken)],
          ['Changes refused', count(sync.refused)],
          [
            'See also',
            <Anchor key="r" component={Link} to={at('requests', 'deviceId', sync.device)}>
              its requests
            </Anchor>,
          ],
        ]}
      />
    </Stack>
  );
}
