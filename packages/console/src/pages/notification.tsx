/** One notification: how many it reached, why not the others, and each delivery. */
import { Anchor, Group, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import type { ReactNode } from 'react';
import { Link, useParams } from 'react-router';
import { useCall } from '../api.js';
import { count, Empty, Facts, Loaded, Moment, PageHead } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { usePlace } from '../place.js';
import { audienceWords, DeliveryBar } from './sent.js';

export function NotificationPage() {
  const { params, base } = usePlace();
  const id = useParams().id as string;
  const state = useListState();
  const notification = useCall(operations.notifications.readManaged, { params: { ...params, id } });
  const deliveries = useCall(operations.notifications.deliveriesManaged, {
    params: { ...params, id },
    query: { ...state.query, limit: 40 },
  });
  const only = (name: string) => `${base}/sent/${id}?filter=${encodeURIComponent(`state = '${name}'`)}`;
  return (
    <Loaded of={notification}>
      {(sent) => (
        <Stack gap="lg">
          <PageHead
            title={sent.title}
            hint={
              <>
                For {audienceWords(sent.audience)}, by {sent.createdBy}, <Moment at={sent.createdAt} />
              </>
            }
          >
            <FromCode
              same={{
                command: `orchard notify status ${id} --app ${params.app} --env ${params.environment}`,
                method: 'GET',
                path: `/app/v1/notifications/${id}`,
              }}
            />
          </PageHead>
          <SimpleGrid cols={{ base: 2, md: 5 }}>
            <div className="panel">
              <span className="number">{count(sent.deliveries.total)}</span>
              <Text size="sm" c="dimmed">
                devices addressed
              </Text>
            </div>
            {(['queued', 'sent', 'failed', 'skipped'] as const).map((name) => (
              <div key={name} className="panel">
                <Anchor
                  component={Link}
                  to={only(name)}
                  c="inherit"
                  className={name === 'failed' && sent.deliveries.failed > 0 ? 'care' : undefined}
                >
                  <span className="number">{count(sent.deliveries[name])}</span>
                </Anchor>
                <Text size="sm" c="dimmed">
                  {name}
                </Text>
              </div>
            ))}
          </SimpleGrid>
          <DeliveryBar deliveries={sent.deliveries} />
          {sent.deliveries.queued > 0 && (
            <Text role="status">
              Sending: {count(sent.deliveries.total - sent.deliveries.queued)} of {count(sent.deliveries.total)} are through.
            </Text>
          )}
          <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
            <section className="panel">
              <Title order={2} mb="xs">
                Why not all
              </Title>
              {sent.reasons.length === 0 ? (
                <Text size="sm">Every device got it.</Text>
              ) : (
                <Stack gap={6}>
                  {sent.reasons.map(({ state: of, reason, count: number }) => (
                    <Group key={`${of} ${reason}`} gap="sm" wrap="nowrap" align="flex-start">
                      <Text className="mono" w={56} ta="right">
                        {count(number)}
                      </Text>
                      <Text size="sm">
                        <b>{of}</b>: {reason}
                      </Text>
                    </Group>
                  ))}
                </Stack>
              )}
            </section>
            <section className="panel">
              <Title order={2} mb="xs">
                What it says
              </Title>
              <Facts
                of={(
                  [
                    ['Title', sent.title],
                    ['Body', sent.body],
                    ['Badge', sent.badge],
                    ['Sound', sent.sound],
                    ['Link', sent.link],
                    ['Data', sent.data && <code key="d">{JSON.stringify(sent.data)}</code>],
                    ['Kept for', `${count(sent.ttlS)} s`],
                    ['Urgency', sent.urgency],
                  ] as [string, ReactNode][]
                ).filter(([, value]) => value !== undefined)}
              />
            </section>
          </SimpleGrid>
          <section>
            <Title order={2} mb="xs">
              Deliveries
            </Title>
            <Listing
              label="Deliveries"
              state={state}
              answer={deliveries}
              idOf={({ deviceId }) => deviceId}
              openId=""
              onOpen={(device) => {
                window.location.assign(`${base}/devices?open=${device}`);
              }}
              example="state = 'failed'"
              empty={
                <Empty title="It addressed no device">
                  <Text>No device belongs to this audience.</Text>
                </Empty>
              }
              columns={[
                {
                  name: 'deviceId',
                  label: 'Device',
                  sortable: true,
                  render: ({ deviceId }) => (
                    <span className="mono" title={deviceId}>
                      {deviceId.length > 22 ? `${deviceId.slice(0, 20)}…` : deviceId}
                    </span>
                  ),
                },
                { name: 'platform', label: 'Platform', sortable: true, render: ({ platform }) => platform },
                { name: 'state', label: 'State', sortable: true, render: ({ state: of }) => of },
                { name: 'reason', label: 'Why', render: ({ reason }) => reason && <span title={reason}>{reason}</span> },
                {
                  name: 'attempts',
                  label: 'Attempts',
                  sortable: true,
                  right: true,
                  render: ({ attempts }) => <span className="mono">{attempts}</span>,
                },
                {
                  name: 'answer',
                  label: 'Answer',
                  sortable: true,
                  right: true,
                  render: ({ answer }) => <span className="mono">{answer}</span>,
                },
                {
                  name: 'nextAttemptAt',
                  label: 'Next attempt',
                  render: ({ nextAttemptAt }) => nextAttemptAt && <Moment at={nextAttemptAt} />,
                },
                { name: 'updatedAt', label: 'Changed', sortable: true, render: ({ updatedAt }) => <Moment at={updatedAt} /> },
              ]}
            />
          </section>
        </Stack>
      )}
    </Loaded>
  );
}
