/** One request in full: where its time went, what was sent and answered, and what lies around it. */
import { Anchor, Badge, Button, Group, Stack, Text, Title } from '@mantine/core';
import { addressOf, curlOf, operations, type RequestDetail } from '@orchard/contract';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Facts, Loaded, Moment } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { StatusText } from './statusText.js';
import { Timeline } from './timeline.js';

/** “Around that time” is this much before and after. */
const AROUND_MS = 5 * 60_000;

export function RequestInFull({ id }: { id: string }) {
  const { params } = useEnvironment();
  const request = useCall(operations.telemetry.request, { params: { ...params, request: id } });
  return <Loaded of={request}>{(detail) => <Detail detail={detail} />}</Loaded>;
}

function Detail({ detail }: { detail: RequestDetail }) {
  const { params } = useEnvironment();
  const isOut = detail.direction === 'out';
  const har = addressOf(operations.telemetry.har, { params, query: { filter: `id = '${detail.id}'` } });
  return (
    <Stack>
      {isOut && <Text size="sm">From the service to the gateway {detail.route}</Text>}
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
      <Around detail={detail} />
      {detail.timeline.length > 0 && (
        <section className="panel">
          <Title order={3} mb={4}>
            {milliseconds(detail.durationMs)}, {milliseconds(detail.databaseMs)} of it in the database
          </Title>
          <Timeline of={detail} />
        </section>
      )}
      <FactsOf detail={detail} />
      <Sides detail={detail} />
      {(!isOut || detail.headers) && (
        <section className="panel">
          <Group justify="space-between" mb={4}>
            <Title order={3}>Repeat it</Title>
            <Button size="compact-sm" variant="default" component="a" href={har} download={`${detail.id}.har`}>
              HAR
            </Button>
          </Group>
          <Code>{curlOf(detail, window.location.origin)}</Code>
        </section>
      )}
    </Stack>
  );
}

/** To what has something in common with it. */
function Around({ detail }: { detail: RequestDetail }) {
  const { base } = useEnvironment();
  const to = (filter: string) => `${base}/requests?filter=${encodeURIComponent(filter)}`;
  const at = Date.parse(detail.at);
  const near = `at > TIMESTAMP('${new Date(at - AROUND_MS).toISOString()}') AND at < TIMESTAMP('${new Date(at + AROUND_MS).toISOString()}')`;
  const links: [label: string, filter: string][] = [
    ['trace', `trace = '${detail.trace}'`],
    ...(detail.userId ? [['user', `userId = '${detail.userId}'`] as [string, string]] : []),
    ...(detail.deviceId ? [['device', `deviceId = '${detail.deviceId}'`] as [string, string]] : []),
    ...(detail.problem ? [['problem', `problem = '${detail.problem}'`] as [string, string]] : []),
    detail.direction === 'out'
      ? ['gateway around that time', `direction = 'out' AND route = '${detail.route}' AND ${near}`]
      : ['route around that time', `method = '${detail.method}' AND route = '${detail.route}' AND ${near}`],
  ];
  return (
    <Group gap="sm">
      <Text size="sm" c="dimmed">
        Same
      </Text>
      {links.map(([label, filter]) => (
        <Anchor key={label} component={Link} to={to(filter)} size="sm">
          {label}
        </Anchor>
      ))}
      <Anchor component={Link} to={`${base}/log?filter=${encodeURIComponent(`trace = '${detail.trace}'`)}`} size="sm">
        log entries
      </Anchor>
    </Group>
  );
}

function FactsOf({ detail }: { detail: RequestDetail }) {
  const { base } = useEnvironment();
  const mono = (key: string, text: string | null) =>
    text && (
      <span key={key} className="mono">
        {text}
      </span>
    );
  return (
    <Facts
      of={[
        ['Status', <StatusText key="s" status={detail.status} />],
        ['Time', <Moment key="t" at={detail.at} />],
        ...(detail.keptOf > 1 ? [['Kept', `1 in ${detail.keptOf} like it`] as [string, string]] : []),
        ...(detail.direction === 'out'
          ? [
              [
                'Gateway',
                <Anchor key="g" component={Link} to={`${base}/gateways?open=${detail.route}`}>
                  {detail.route}
                </Anchor>,
              ] as [string, ReactNode],
            ]
          : [['Statements', count(detail.statements)] as [string, string], ['Route', mono('r', detail.route)] as [string, ReactNode]]),
        ...(detail.direction === 'in' ? callerFacts(detail, base, mono) : []),
        [
          'Device',
          detail.deviceId && (
            <Anchor key="d" component={Link} to={`${base}/devices?open=${detail.deviceId}`} className="mono">
              {detail.deviceId}
            </Anchor>
          ),
        ],
        ...(detail.direction === 'in' ? [['Origin', detail.origin] as [string, ReactNode]] : []),
        [
          'Sizes',
          detail.direction === 'out'
            ? `${count(detail.bytesIn)} bytes sent, ${count(detail.bytesOut)} bytes received`
            : `${count(detail.bytesIn)} bytes in, ${count(detail.bytesOut)} bytes out`,
        ],
        ['Trace', mono('tr', detail.trace)],
        ['Span', mono('sp', [detail.parentSpan, detail.span].filter(Boolean).join(' → '))],
        ['Request id', mono('id', detail.id)],
      ]}
    />
  );
}

type Fact = [string, ReactNode];

/** Who called. */
const callerFacts = (detail: RequestDetail, base: string, mono: (key: string, text: string | null) => ReactNode): Fact[] => [
  [
    'Client',
    detail.client && (
      <span key="c">
        <Anchor component={Link} to={`${base}/requests?filter=${encodeURIComponent(`client = '${detail.client}'`)}`}>
          {detail.client}
        </Anchor>{' '}
        {detail.version}
      </span>
    ),
  ],
  ['Key', mono('k', detail.key)],
  [
    'User',
    detail.userId && (
      <Anchor key="u" component={Link} to={`${base}/users?open=${detail.userId}`} className="mono">
        {detail.userId}
      </Anchor>
    ),
  ],
];

/** Headers and bodies of request and response. */
function Sides({ detail: { headers, bodies } }: { detail: RequestDetail }) {
  if (!headers && !bodies) return null;
  return (
    <>
      {(['request', 'response'] as const)
        .filter((side) => Object.keys(headers?.[side] ?? {}).length > 0 || bodies?.[side])
        .map((side) => (
          <section key={side} className="panel">
            <Title order={3} mb={4}>
              {side === 'request' ? 'Sent' : 'Answered'}
            </Title>
            <table className="plain">
              <tbody>
                {Object.entries(headers?.[side] ?? {}).map(([name, value]) => (
                  <tr key={name}>
                    <td>{name}</td>
                    <td className="mono" style={{ overflowWrap: 'anywhere' }}>
                      {value}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {bodies?.[side] && <Code label={`Copy the body of the ${side}`}>{indented(bodies[side])}</Code>}
          </section>
        ))}
    </>
  );
}

/** A body that was cut is no JSON any more. */
function indented(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
