/** The latest requests, and one in full. */
import { Anchor, Badge, Drawer, Stack, Text } from '@mantine/core';
import { operations, type RequestDetail } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Code, count, Empty, Facts, Loaded, milliseconds, Moment, PageHead, readable } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';

export function StatusText({ status }: { status: number }) {
  return (
    <span className={status >= 500 ? 'mono care' : 'mono'} style={{ fontWeight: status >= 400 ? 700 : 400 }}>
      {status}
    </span>
  );
}

export function RequestsPage() {
  const { params } = usePlace();
  const state = useListState('-at');
  const [openId, setOpen] = useAddressState('open');
  const requests = useCall(operations.telemetry.requests, { params, query: { ...state.query, limit: 40 } });
  return (
    <>
      <PageHead title="Requests" hint="Each call as it was recorded, the latest first">
        <FromCode
          same={{
            command: `orchard request list --app ${params.app} --env ${params.environment}${state.filter ? ` --filter "${state.filter}"` : ''}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/requests${state.filter ? `?filter=${encodeURIComponent(state.filter)}` : ''}`,
          }}
        />
      </PageHead>
      <Listing
        label="Requests"
        state={state}
        answer={requests}
        idOf={({ id }) => id}
        openId={openId}
        onOpen={setOpen}
        example="status >= 400 AND client = 'hiker-ios'"
        presets={[
          { label: 'Refused', filter: 'status >= 400 AND status < 500' },
          { label: 'Failed', filter: 'status >= 500' },
          { label: 'Over 100 ms', filter: 'durationMs > 100' },
          { label: 'Writes', filter: "method <> 'GET'" },
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
            render: ({ method, path }) => (
              <span className="mono" title={readable(path)}>
                {method} {readable(path)}
              </span>
            ),
          },
          { name: 'status', label: 'Status', sortable: true, render: ({ status }) => <StatusText status={status} /> },
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
          { name: 'client', label: 'Client', render: ({ client }) => client },
          { name: 'userId', label: 'User', render: ({ userId }) => userId && <span className="mono">…{userId.slice(-8)}</span> },
        ]}
      />
      <Drawer opened={openId !== ''} onClose={() => setOpen(null)} position="right" size="xl" title="Request">
        {openId && <RequestInFull id={openId} />}
      </Drawer>
    </>
  );
}

function RequestInFull({ id }: { id: string }) {
  const { params } = usePlace();
  const request = useCall(operations.telemetry.request, { params: { ...params, request: id } });
  return <Loaded of={request}>{(detail) => <Detail detail={detail} />}</Loaded>;
}

function Detail({ detail }: { detail: RequestDetail }) {
  const { base } = usePlace();
  const of = (name: string, value: string) => `${base}/requests?filter=${encodeURIComponent(`${name} = '${value}'`)}`;
  return (
    <Stack>
      <Text className="mono" fw={600} style={{ overflowWrap: 'anywhere' }}>
        {detail.method} {detail.path}
      </Text>
      {detail.detail && (
        <div className="panel">
          <Badge variant="outline" color="persimmon" c="var(--care)" mb={4}>
            {detail.problem}
          </Badge>
          <Text>{detail.detail}</Text>
        </div>
      )}
      <Facts
        of={[
          ['Status', <StatusText key="s" status={detail.status} />],
          ['Time', <Moment key="t" at={detail.at} />],
          ['Duration', milliseconds(detail.durationMs)],
          [
            'In the database',
            `${milliseconds(detail.databaseMs)}, ${detail.statements} ${detail.statements === 1 ? 'statement' : 'statements'}`,
          ],
          [
            'Route',
            <span key="r" className="mono">
              {detail.route}
            </span>,
          ],
          [
            'Client',
            detail.client && (
              <Anchor key="c" component={Link} to={of('client', detail.client)}>
                {detail.client}
              </Anchor>
            ),
          ],
          ['Key', detail.key && <span className="mono">{detail.key}</span>],
          [
            'User',
            detail.userId && (
              <Anchor key="u" component={Link} to={`${base}/users?open=${detail.userId}`} className="mono">
                {detail.userId}
              </Anchor>
            ),
          ],
          [
            'Device',
            detail.deviceId && (
              <Anchor key="d" component={Link} to={`${base}/devices?open=${detail.deviceId}`} className="mono">
                {detail.deviceId}
              </Anchor>
            ),
          ],
          ['Origin', detail.origin],
          ['User agent', detail.userAgent],
          ['Received', `${count(detail.bytesIn)} bytes`],
          ['Answered', `${count(detail.bytesOut)} bytes`],
          [
            'Trace',
            <Anchor key="tr" component={Link} to={of('trace', detail.trace)} className="mono">
              {detail.trace}
            </Anchor>,
          ],
          [
            'Span',
            <span key="sp" className="mono">
              {detail.span}
            </span>,
          ],
          ['Parent span', detail.parentSpan && <span className="mono">{detail.parentSpan}</span>],
          [
            'Request id',
            <span key="id" className="mono">
              {detail.id}
            </span>,
          ],
        ]}
      />
      <Code>{`orchard request show ${detail.id}`}</Code>
    </Stack>
  );
}
