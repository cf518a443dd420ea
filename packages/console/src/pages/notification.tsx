/**
 * One notification: the steps from audience to opened, the reasons for losses, and each delivery with the network's
 * response.
 */
import { Anchor, Group, Progress, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { actorWords, type DeliveryCounts, type Notification, operations } from '@orchard/contract';
import type { ReactNode } from 'react';
import { Link, useParams } from 'react-router';
import { useCall } from '../api.js';
import { Deliveries } from '../notification/deliveries.js';
import { Turns } from '../notification/turns.js';
import { Facts, Loaded, Moment, PageHead } from '../parts/basics.js';
import { count, duration, inWords } from '../parts/format.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { useEnvironment } from '../environment.js';
import { SERIES } from '../theme.js';
import { Effect } from '../notification/effect.js';
import { audienceWords } from '../messaging/audienceWords.js';
import { DeliveryBar } from './sent.js';

export function NotificationPage() {
  const { params, base } = useEnvironment();
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
                {sent.way === 'push' ? 'Push' : sent.way === 'sms' ? 'SMS' : 'Mail'} for {audienceWords(sent.audience)}, by{' '}
                {actorWords(sent.createdBy)}, {sent.state}
                {sent.startAt && sent.state === 'scheduled' ? ' for ' : ', '}
                {sent.state === 'scheduled' && sent.start && 'local' in sent.start ? (
                  `${sent.start.local.replace('T', ' ')} in each recipient’s time zone`
                ) : (
                  <Moment at={sent.startedAt ?? sent.startAt ?? sent.createdAt} />
                )}
              </>
            }
          >
            <Turns sent={sent} />
            <FromCode calls={[coded(operations.notifications.readManaged, { params: { ...params, id } })]} />
          </PageHead>
          <Way sent={sent} base={base} />
          <DeliveryBar deliveries={sent.deliveries} />
          {(sent.deliveries.queued > 0 || sent.spreading) && <UnderWay sent={sent} />}
          {sent.state === 'sending' && sent.fallBack && sent.startedAt && (
            <Text size="sm" role="status">
              Recipients who have not received it by{' '}
              <Moment at={new Date(Date.parse(sent.startedAt) + sent.fallBack.afterMin * 60_000).toISOString()} /> get{' '}
              {sent.fallBack.way === 'sms' ? 'an SMS' : 'a mail'}. Until then the notification is not done.
            </Text>
          )}
          {sent.deliveries.total > 0 && <Effect id={id} />}
          <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
            <Groups sent={sent} />
            <section className="panel">
              <Title order={2} mb="xs">
                Reasons for non-delivery
              </Title>
              {sent.reasons.length === 0 ? (
                <Text size="sm">{sent.deliveries.total ? 'All deliveries succeeded.' : 'Nothing was sent yet.'}</Text>
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
              {sent.chosen && <Chosen of={sent.chosen} id={id} />}
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

/** The steps from audience to opened, each a link to its deliveries. */
function Way({ sent, base }: { sent: Notification; base: string }) {
  const { total, skipped, queued, accepted, arrived, opened, failed, expired } = sent.deliveries;
  const steps: [label: string, number: number, filter: string | null, care?: boolean][] = [
    ['addressed', total, null],
    ['sendable', total - skipped, "state <> 'skipped'"],
    ['accepted by the network', accepted + arrived, "state IN ('accepted', 'arrived')"],
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
        {sent.spreading && ' and counting'} processed.
      </Text>
      <Progress value={total ? (through / total) * 100 : 0} size="sm" aria-label="Share sent" />
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
                {inWords(name)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sent.groups.map((group) => (
            <tr key={`${group.way} ${group.platform} ${group.variant}`}>
              <td>{group.way === 'push' ? group.platform : group.way === sent.way ? group.way : `${group.way}, fallback`}</td>
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
  const { params } = useEnvironment();
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
    ['Fallback', sent.fallBack && `to ${sent.fallBack.way} after ${sent.fallBack.afterMin} minutes`],
    ['Time to live', duration(sent.ttlS)],
    ['Urgency', sent.urgency],
  ];
  return (
    <section className="panel">
      <Title order={2} mb="xs">
        Content
      </Title>
      <Facts of={facts.filter(([, value]) => value !== undefined && value !== null && value !== false)} />
    </section>
  );
}

/** The buttons that people chose, each a link to those deliveries. */
function Chosen({ of, id }: { of: { button: string; count: number }[]; id: string }) {
  const { base } = useEnvironment();
  return (
    <>
      <Title order={3} mt="md" mb="xs">
        Buttons chosen
      </Title>
      {of.map(({ button, count: number }) => (
        <Group key={button} gap="sm">
          <Anchor
            component={Link}
            to={`${base}/sent/${id}?filter=${encodeURIComponent(`button = '${button.replaceAll("'", "''")}'`)}`}
            className="mono"
            w={56}
            ta="right"
          >
            {count(number)}
          </Anchor>
          <Text size="sm">{button}</Text>
        </Group>
      ))}
    </>
  );
}
