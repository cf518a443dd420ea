/** One notification: the way from its audience to those who opened it, why not all, and each delivery to the network's answer. */
import { Anchor, Button, Drawer, Group, Progress, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { type Delivery, type DeliveryCounts, type Notification, operations } from '@orchard/contract';
import type { ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useCall, useChange } from '../api.js';
import { count, Empty, Facts, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';
import { SERIES } from '../theme.js';
import { audienceWords, DeliveryBar } from './sent.js';

export function NotificationPage() {
  const { params, base } = usePlace();
  const id = useParams().id as string;
  const notification = useCall(operations.notifications.readManaged, { params: { ...params, id } });
  return (
    <Loaded of={notification}>
      {(sent) => (
        <Stack gap="lg">
          <PageHead
            title={sent.title ?? sent.body}
            hint={
              <>
                {sent.way === 'push' ? 'Push' : sent.way === 'sms' ? 'SMS' : 'Mail'} for {audienceWords(sent.audience)}, by {sent.createdBy}
                , {sent.state}
                {sent.startAt && sent.state === 'scheduled' ? ' for ' : ', '}
                {sent.state === 'scheduled' && sent.start && 'local' in sent.start ? (
                  `${sent.start.local.replace('T', ' ')} on each recipient’s clock`
                ) : (
                  <Moment at={sent.startedAt ?? sent.startAt ?? sent.createdAt} />
                )}
              </>
            }
          >
            <Turns sent={sent} />
            <FromCode
              same={{
                command: `orchard notify status ${id} --app ${params.app} --env ${params.environment}`,
                method: 'GET',
                path: `/app/v1/notifications/${id}`,
              }}
            />
          </PageHead>
          <Way sent={sent} base={base} />
          <DeliveryBar deliveries={sent.deliveries} />
          {(sent.deliveries.queued > 0 || sent.spreading) && <UnderWay sent={sent} />}
          {sent.state === 'sending' && sent.fallBack && sent.startedAt && (
            <Text size="sm" role="status">
              Who has not received it by{' '}
              <Moment at={new Date(Date.parse(sent.startedAt) + sent.fallBack.afterMin * 60_000).toISOString()} /> gets{' '}
              {sent.fallBack.way === 'sms' ? 'an SMS' : 'a mail'}; until then it is not done.
            </Text>
          )}
          <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
            <Groups sent={sent} />
            <section className="panel">
              <Title order={2} mb="xs">
                Why not all
              </Title>
              {sent.reasons.length === 0 ? (
                <Text size="sm">{sent.deliveries.total ? 'Every delivery went through.' : 'Nothing was sent yet.'}</Text>
              ) : (
                <Stack gap={6}>
                  {sent.reasons.map(({ state, reason, count: number }) => (
                    <Group key={`${state} ${reason}`} gap="sm" wrap="nowrap" align="flex-start">
                      <Anchor
                        component={Link}
                        to={`${base}/sent/${id}?filter=${encodeURIComponent(`state = '${state}' AND reason = '${reason.replaceAll("'", "''")}'`)}`}
                        className="mono"
                        w={56}
                        ta="right"
                      >
                        {count(number)}
                      </Anchor>
                      <Text size="sm">
                        <b>{state}</b>: {reason}
                      </Text>
                    </Group>
                  ))}
                </Stack>
              )}
            </section>
          </SimpleGrid>
          <Course id={id} />
          <Says sent={sent} />
          <Deliveries id={id} />
        </Stack>
      )}
    </Loaded>
  );
}

/** Stop, resume, start, throw away: whatever its state allows. */
function Turns({ sent }: { sent: Notification }) {
  const { params, base } = usePlace();
  const navigate = useNavigate();
  const at = { params: { ...params, id: sent.id } };
  const start = useChange(operations.notifications.startManaged, ['notifications.']);
  const stop = useChange(operations.notifications.stopManaged, ['notifications.']);
  const resume = useChange(operations.notifications.resumeManaged, ['notifications.']);
  const remove = useChange(operations.notifications.remove, ['notifications.']);
  const waiting = sent.state === 'draft' || sent.state === 'scheduled';
  return (
    <>
      <Trouble error={start.error ?? stop.error ?? resume.error} />
      {waiting && (
        <>
          <Button size="xs" loading={start.isPending} onClick={() => start.mutate(at)}>
            Send now
          </Button>
          <Button size="xs" variant="default" component={Link} to={`${base}/compose?kept=${sent.id}`}>
            Write on
          </Button>
        </>
      )}
      {(sent.state === 'sending' || sent.state === 'scheduled') && (
        <Button size="xs" variant="default" loading={stop.isPending} onClick={() => stop.mutate(at)}>
          Stop
        </Button>
      )}
      {sent.state === 'stopped' && (
        <Button size="xs" loading={resume.isPending} onClick={() => resume.mutate(at)}>
          Go on
        </Button>
      )}
      {waiting && (
        <ConfirmedButton
          label="Throw away"
          verb="Throw away"
          size="xs"
          question="Throw this notification away?"
          consequence="It was not sent to anybody, and will not be."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: () => navigate(`${base}/sent`) })}
        />
      )}
    </>
  );
}

/** The steps from audience to opened, each a link to its deliveries. */
function Way({ sent, base }: { sent: Notification; base: string }) {
  const { total, skipped, queued, accepted, arrived, opened, failed, expired } = sent.deliveries;
  const steps: [label: string, number: number, filter: string | null, care?: boolean][] = [
    ['addressed', total, null],
    ['could be sent', total - skipped, "state <> 'skipped'"],
    ['through to the network', accepted + arrived, "state IN ('accepted', 'arrived')"],
    ['arrived', arrived, "state = 'arrived'"],
    ['opened', opened, 'openedAt IS NOT NULL'],
    ['waiting', queued, "state = 'queued'"],
    ['failed or expired', failed + expired, "state IN ('failed', 'expired')", failed + expired > 0],
  ];
  const share = (number: number) => (total ? `${Math.round((number / total) * 100)} %` : '');
  return (
    <div className="way">
      {steps.map(([label, number, filter, care]) => (
        <div key={label} className="panel">
          <Anchor
            component={Link}
            to={`${base}/sent/${sent.id}${filter ? `?filter=${encodeURIComponent(filter)}` : ''}`}
            c="inherit"
            className={care ? 'care' : undefined}
          >
            <span className="number">{count(number)}</span>
          </Anchor>
          <Text size="sm" c="dimmed">
            {label}
            {number > 0 && label !== 'addressed' && `, ${share(number)}`}
          </Text>
        </div>
      ))}
    </div>
  );
}

function UnderWay({ sent }: { sent: Notification }) {
  const { total, queued } = sent.deliveries;
  const through = total - queued;
  return (
    <div role="status">
      <Text size="sm">
        {sent.state === 'stopped' ? 'Stopped' : 'Sending'}: {count(through)} of {count(total)}
        {sent.spreading && ' and counting'} are through.
      </Text>
      <Progress value={total ? (through / total) * 100 : 0} size="sm" aria-label="Share that is through" />
    </div>
  );
}

/** The same numbers by platform, way and content. */
function Groups({ sent }: { sent: Notification }) {
  const columns: (keyof DeliveryCounts)[] = ['total', 'accepted', 'arrived', 'opened', 'failed', 'skipped'];
  return (
    <section className="panel listing">
      <Title order={2} mb="xs">
        By platform{sent.second ? ' and content' : ''}
      </Title>
      <table>
        <thead>
          <tr>
            <th scope="col">Platform</th>
            {sent.second && <th scope="col">Content</th>}
            {columns.map((name) => (
              <th key={name} scope="col" className="right">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sent.groups.map((group) => (
            <tr key={`${group.way} ${group.platform} ${group.variant}`}>
              <td>{group.way === 'push' ? group.platform : group.way === sent.way ? group.way : `${group.way}, fallen back`}</td>
              {sent.second && <td>{group.variant === 'a' ? 'first' : 'second'}</td>}
              {columns.map((name) => (
                <td key={name} className="right mono">
                  {count(group[name])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Course({ id }: { id: string }) {
  const { params } = usePlace();
  const course = useCall(operations.notifications.course, { params: { ...params, id } });
  if (!course.data || course.data.items.length < 2) return null;
  return (
    <ChartPanel
      title="Over time"
      unit="deliveries"
      kind="bar"
      rows={course.data.items}
      stepMs={course.data.stepS * 1000}
      height={170}
      series={[
        { name: 'sent', label: 'sent', color: SERIES.slate },
        { name: 'arrived', label: 'arrived', color: SERIES.viridian },
        { name: 'opened', label: 'opened', color: SERIES.honey },
        { name: 'failed', label: 'failed', color: SERIES.persimmon },
      ]}
    />
  );
}

function Says({ sent }: { sent: Notification }) {
  const json = (value: unknown) => value !== undefined && <code>{JSON.stringify(value)}</code>;
  const facts: [string, ReactNode][] = [
    ['Title', sent.title],
    ['Body', sent.body],
    ['Badge', sent.badge],
    ['Sound', sent.sound],
    ['Picture', sent.picture],
    ['Link', sent.link],
    ['Buttons', sent.buttons?.map(({ title }) => title).join(', ')],
    ['Data', json(sent.data)],
    ['Languages', sent.locales && Object.keys(sent.locales).join(', ')],
    ['Second content', sent.second && `${sent.second.content.title ?? ''} (${Math.round(sent.second.share * 100)} %)`],
    ['At most', sent.perSecond && `${count(sent.perSecond)} a second`],
    ['Quiet hours', sent.quiet && `${sent.quiet.from} to ${sent.quiet.to}`],
    ['Falls back', sent.fallBack && `to ${sent.fallBack.way} after ${sent.fallBack.afterMin} minutes`],
    ['Kept for', `${count(sent.ttlS)} s`],
    ['Urgency', sent.urgency],
  ];
  return (
    <section className="panel">
      <Title order={2} mb="xs">
        What it says
      </Title>
      <Facts of={facts.filter(([, value]) => value !== undefined && value !== null && value !== false)} />
    </section>
  );
}

function Deliveries({ id }: { id: string }) {
  const { params } = usePlace();
  const state = useListState();
  const [openId, setOpen] = useAddressState('open');
  const deliveries = useCall(operations.notifications.deliveriesManaged, {
    params: { ...params, id },
    query: { ...state.query, limit: 40 },
  });
  const open = deliveries.data?.items.find(({ target }) => target === openId);
  return (
    <section>
      <Title order={2} mb="xs">
        Deliveries
      </Title>
      <Listing
        label="Deliveries"
        state={state}
        answer={deliveries}
        idOf={({ target }) => target}
        openId={openId}
        onOpen={setOpen}
        example="state = 'failed' AND gateway = 'cairn'"
        presets={['arrived', 'accepted', 'queued', 'failed', 'skipped'].map((name) => ({ label: name, filter: `state = '${name}'` }))}
        empty={
          <Empty title="No deliveries yet">
            <Text>They are made when it is sent.</Text>
          </Empty>
        }
        columns={[
          {
            name: 'target',
            label: 'To',
            sortable: true,
            render: ({ target }) => (
              <span className="mono" title={target}>
                {target.length > 26 ? `${target.slice(0, 24)}…` : target}
              </span>
            ),
          },
          { name: 'platform', label: 'Platform', sortable: true, render: ({ platform }) => platform },
          { name: 'gateway', label: 'Gateway', sortable: true, render: ({ gateway }) => gateway },
          { name: 'state', label: 'State', sortable: true, render: ({ state: of }) => of },
          { name: 'reason', label: 'Why', render: ({ reason }) => reason && <span title={reason}>{reason}</span> },
          { name: 'answer', label: 'Answer', sortable: true, right: true, render: ({ answer }) => <span className="mono">{answer}</span> },
          {
            name: 'attempts',
            label: 'Attempts',
            sortable: true,
            right: true,
            render: ({ attempts }) => <span className="mono">{attempts}</span>,
          },
          { name: 'updatedAt', label: 'Changed', sortable: true, render: ({ updatedAt }) => <Moment at={updatedAt} /> },
        ]}
      />
      <Drawer opened={Boolean(open)} onClose={() => setOpen(null)} position="right" size="lg" title="Delivery">
        {open && <OneDelivery delivery={open} />}
      </Drawer>
    </section>
  );
}

/** One delivery down to the network's answer. */
function OneDelivery({ delivery }: { delivery: Delivery }) {
  const { base } = usePlace();
  const { target, deviceId, userId } = delivery;
  return (
    <Stack>
      <Text fw={600}>
        {delivery.state}
        {delivery.reason && `: ${delivery.reason}`}
      </Text>
      <Facts
        of={[
          [
            'To',
            deviceId ? (
              <Anchor key="d" component={Link} to={`${base}/devices?open=${deviceId}`} className="mono">
                {deviceId}
              </Anchor>
            ) : (
              <span key="t" className="mono">
                {target}
              </span>
            ),
          ],
          [
            'User',
            userId && (
              <Anchor key="u" component={Link} to={`${base}/users?open=${userId}`} className="mono">
                {userId}
              </Anchor>
            ),
          ],
          [
            'Gateway',
            delivery.gateway && (
              <Anchor key="g" component={Link} to={`${base}/gateways?open=${delivery.gateway}`}>
                {delivery.gateway}
              </Anchor>
            ),
          ],
          ['Network’s answer', delivery.answer],
          ['Network’s words', delivery.said],
          ['Network’s id', delivery.messageId && <code key="m">{delivery.messageId}</code>],
          ['Segments', delivery.segments],
          ['Content', delivery.variant === 'a' ? 'first' : 'second'],
          ['Attempts', delivery.attempts],
          ['Next attempt', delivery.nextAttemptAt && <Moment key="n" at={delivery.nextAttemptAt} />],
          ['First sent', delivery.sentAt && <Moment key="s" at={delivery.sentAt} />],
          ['Received', delivery.receivedAt && <Moment key="r" at={delivery.receivedAt} />],
          ['Opened', delivery.openedAt && <Moment key="o" at={delivery.openedAt} />],
        ]}
      />
    </Stack>
  );
}
