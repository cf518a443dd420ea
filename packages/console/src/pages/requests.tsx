/** The latest requests, and one in full. */
import { Anchor, Badge, Stack, Text } from '@mantine/core';
import { operations, type RequestDetail } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Code, Empty, Facts, Loaded, Moment } from '../parts/basics.js';
import { count, milliseconds, readable } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { useEnvironment } from '../environment.js';

export function StatusText({ status }: { status: number }) {
  return (
    <span className={status >= 500 ? 'mono care' : 'mono'} style={{ fontWeight: status >= 400 ? 700 : 400 }}>
      {status}
    </span>
  );
}

export function RequestsPage() {
  return (
    <ListPage
      title="Requests"
      hint="Each call as it was recorded, latest first"
      operation={operations.telemetry.requests}
      label="Requests"
      initialSort="-at"
      idOf={({ id }) => id}
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
      drawer={{ title: 'Request', size: 'xl', render: (id) => <RequestInFull id={id} /> }}
    />
  );
}

function RequestInFull({ id }: { id: string }) {
  const { params } = useEnvironment();
  const request = useCall(operations.telemetry.request, { params: { ...params, request: id } });
  return <Loaded of={request}>{(detail) => <Detail detail={detail} />}</Loaded>;
}

function Detail({ detail }: { detail: RequestDetail }) {
  const { base } = useEnvironment();
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
          ['Request size', `${count(detail.bytesIn)} bytes`],
          ['Response size', `${count(detail.bytesOut)} bytes`],
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
