/** The first page: current activity, and what needs attention. */
import { Anchor, Button, Group, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Loaded, Moment, PageHead } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { BlockedOrigins } from '../parts/blockedOrigins.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SaveReport } from '../parts/saveReport.js';
import { Problems } from '../requests/problems.js';
import { PERIOD_OF, RangeControl, useRange } from '../parts/range.js';
import { useEnvironment } from '../environment.js';

import { callRows, CALL_SERIES } from './apiUse.js';

export function OverviewPage() {
  const { params, base } = useEnvironment();
  const range = useRange();
  const usage = useCall(operations.telemetry.usage, { params, query: range.query }, { refetchInterval: 15_000 });
  const blocked = useCall(operations.clients.blockedOrigins, { params });
  const sent = useCall(operations.notifications.list, { params, query: { limit: 5 } });
  const collections = useCall(operations.collections.list, { params });
  const requests = (filter: string) => `${base}/requests?filter=${encodeURIComponent(filter)}`;
  return (
    <Stack gap="lg">
      <PageHead title="Overview" hint={`${params.app} / ${params.environment}`}>
        <RangeControl range={range} />
        <SaveReport of={{ source: 'summary' }} period={PERIOD_OF[range.name]} />
        <FromCode calls={[coded(operations.telemetry.usage, { params, query: range.query })]} />
      </PageHead>
      <BlockedOrigins items={blocked.data?.items ?? []} />
      <Loaded of={usage}>
        {({ total, steps, stepMs }) => (
          <>
            <SimpleGrid cols={{ base: 2, md: 5 }}>
              <Figure label={`calls, ${range.label}`} value={count(total.calls)} to={requests("direction = 'in'")} />
              <Figure
                label="refused (4xx)"
                value={count(total.clientErrors)}
                to={requests("direction = 'in' AND status >= 400 AND status < 500")}
              />
              <Figure
                label="failed (5xx)"
                value={count(total.serverErrors)}
                to={requests("direction = 'in' AND status >= 500")}
                care={total.serverErrors > 0}
              />
              <Figure label="Median" value={milliseconds(total.p50Ms)} to={`${base}/api-use`} />
              <Figure label="p95" value={milliseconds(total.p95Ms)} to={`${base}/api-use`} />
            </SimpleGrid>
            <ChartPanel
              title="Calls"
              unit="calls"
              rows={callRows(steps)}
              series={CALL_SERIES}
              stepMs={stepMs}
              kind="bar"
              stacked
              height={180}
            />
          </>
        )}
      </Loaded>
      <Problems query={range.query} />
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
        <section className="panel">
          <Title order={2} mb="xs">
            Latest notifications
          </Title>
          <Loaded of={sent}>
            {({ items }) =>
              items.length === 0 ? (
                <Group>
                  <Text size="sm">None sent yet.</Text>
                  <Button component={Link} to={`${base}/compose`} size="compact-sm" variant="light">
                    Compose one
                  </Button>
                </Group>
              ) : (
                <Stack gap={6}>
                  {items.map((item) => (
                    <Group key={item.id} justify="space-between" wrap="nowrap">
                      <Anchor component={Link} to={`${base}/sent/${item.id}`} truncate>
                        {item.title ?? item.body}
                      </Anchor>
                      <Text size="sm" c="dimmed" style={{ whiteSpace: 'nowrap' }}>
                        {item.state === 'draft' || item.state === 'scheduled'
                          ? item.state
                          : `${count(item.deliveries.accepted + item.deliveries.arrived)} of ${count(item.deliveries.total)} accepted`}
                        , <Moment at={item.createdAt} />
                      </Text>
                    </Group>
                  ))}
                </Stack>
              )
            }
          </Loaded>
        </section>
        <section className="panel">
          <Title order={2} mb="xs">
            Collections
          </Title>
          <Loaded of={collections}>
            {({ items }) =>
              items.length === 0 ? (
                <Text size="sm">
                  None yet: the first stored record creates one.{' '}
                  <Anchor component={Link} to={`${base}/first-calls`}>
                    First calls
                  </Anchor>
                </Text>
              ) : (
                <Stack gap={6}>
                  {items.map((item) => (
                    <Group key={item.name} justify="space-between">
                      <Anchor component={Link} to={`${base}/data/${item.name}`}>
                        {item.name}
                      </Anchor>
                      <Text size="sm" className="mono">
                        {count(item.records)}
                      </Text>
                    </Group>
                  ))}
                </Stack>
              )
            }
          </Loaded>
        </section>
      </SimpleGrid>
    </Stack>
  );
}

function Figure({ label, value, to, care }: { label: string; value: string; to: string; care?: boolean }) {
  return (
    <div className="panel">
      <Anchor component={Link} to={to} c="inherit" className={care ? 'care' : undefined}>
        <span className="number">{value}</span>
      </Anchor>
      <Text size="sm" c="dimmed">
        {label}
      </Text>
    </div>
  );
}
