/** The latest requests, and one in full. */
import { Anchor, Switch, Text } from '@mantine/core';
import { addressOf, operations } from '@orchard/contract';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Moment } from '../parts/basics.js';
import { milliseconds, readable } from '../parts/format.js';
import { FreeText } from '../parts/freeText.js';
import { coded } from '../parts/fromCode.js';
import { ListPage } from '../parts/listPage.js';
import { useListState } from '../parts/listState.js';
import { RequestInFull } from '../requests/detail.js';
import { RecordingSettings } from '../requests/recordingSettings.js';
import { SavedSearches } from '../requests/savedSearches.js';
import { StatusText } from '../requests/statusText.js';

const FOLLOW_MS = 1_000;

export function RequestsPage() {
  const { params } = useEnvironment();
  const [text] = useAddressState('text');
  const [follow, setFollow] = useAddressState('follow');
  const { filter } = useListState('-at');
  const also = text ? { text } : {};
  const selection = { ...also, ...(filter ? { filter } : {}) };
  return (
    <ListPage
      title="Requests"
      hint="Each call as it was recorded, latest first: from apps and servers, and to the networks of gateways"
      operation={operations.telemetry.requests}
      also={also}
      {...(follow ? { refetchInterval: FOLLOW_MS } : {})}
      calls={[coded(operations.telemetry.har, { params, query: selection })]}
      above={<FreeText placeholder="Free text in path, problem and detail" />}
      label="Requests"
      initialSort="-at"
      idOf={({ id }) => id}
      example="status >= 400 AND client = 'hiker-ios'"
      presets={[
        { label: 'Refused', filter: 'status >= 400 AND status < 500' },
        { label: 'Failed', filter: 'status >= 500 OR status = 0' },
        { label: 'Over 100 ms', filter: 'durationMs > 100' },
        { label: 'Writes', filter: "direction = 'in' AND method <> 'GET'" },
        { label: 'Outgoing', filter: "direction = 'out'" },
      ]}
      empty={
        <Empty title="No request yet">
          <Text>Every call with a key of this environment shows up here within a second.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'Time', sortable: true, render: ({ at }) => <Moment at={at} /> },
        {
          name: 'path',
          label: 'Call',
          render: ({ direction, method, path }) => (
            <span className="mono" title={readable(path)}>
              {direction === 'out' && '→ '} {method} {readable(path)}
            </span>
          ),
        },
        {
          name: 'status',
          label: 'Status',
          sortable: true,
          render: ({ status, keptOf }) => (
            <>
              <StatusText status={status} />
              {keptOf > 1 && (
                <Text span size="xs" c="dimmed" ml={4}>
                  1 in {keptOf} kept
                </Text>
              )}
            </>
          ),
        },
        { name: 'problem', label: 'Problem', render: ({ problem }) => problem },
        {
          name: 'durationMs',
          label: 'Duration',
          sortable: true,
          right: true,
          render: ({ durationMs }) => <span className="mono">{milliseconds(durationMs)}</span>,
        },
        {
          name: 'databaseMs',
          label: 'Database',
          sortable: true,
          right: true,
          render: ({ databaseMs }) => <span className="mono">{milliseconds(databaseMs)}</span>,
        },
        {
          name: 'client',
          label: 'Client',
          render: ({ direction, route, client, version }) =>
            direction === 'out' ? `gateway ${route}` : [client, version].filter(Boolean).join(' '),
        },
        { name: 'userId', label: 'User', render: ({ userId }) => userId && <span className="mono">…{userId.slice(-8)}</span> },
      ]}
      drawer={{ title: 'Request', size: 'xl', render: (id) => <RequestInFull id={id} /> }}
    >
      <Switch
        size="xs"
        label="Follow"
        checked={follow !== ''}
        onChange={({ currentTarget }) => setFollow(currentTarget.checked ? '1' : null)}
      />
      <SavedSearches list="requests" />
      <RecordingSettings />
      <Anchor size="sm" href={addressOf(operations.telemetry.har, { params, query: selection })} download="requests.har">
        HAR
      </Anchor>
    </ListPage>
  );
}
