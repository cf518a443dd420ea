/** Notifications that were sent. */
import { Anchor, Text } from '@mantine/core';
import { type Notification, operations } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { Code, Empty, Moment } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { useEnvironment } from '../environment.js';
import { SERIES } from '../theme.js';
import { audienceWords } from '../messaging/audienceWords.js';

const STATES = [
  ['arrived', SERIES.viridian],
  ['accepted', SERIES.honey],
  ['queued', SERIES.slate],
  ['failed', SERIES.persimmon],
  ['expired', SERIES.plum],
  ['skipped', '#a39e92'],
] as const;

const shortened = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

/** The deliveries of a notification as one bar, by state. */
export function DeliveryBar({ deliveries }: { deliveries: Notification['deliveries'] }) {
  return (
    <div className="share" role="img" aria-label={STATES.map(([state]) => `${deliveries[state]} ${state}`).join(', ')}>
      {deliveries.total > 0 &&
        STATES.map(([state, color]) => (
          <i key={state} style={{ width: `${(deliveries[state] / deliveries.total) * 100}%`, background: color }} />
        ))}
    </div>
  );
}

export function SentPage() {
  const { base } = useEnvironment();
  const navigate = useNavigate();
  return (
    <ListPage
      title="Sent"
      hint="Notifications, latest first"
      operation={operations.notifications.list}
      label="Notifications"
      idOf={({ id }) => id}
      presets={[
        { label: 'Sending', filter: "state = 'sending'" },
        { label: 'Scheduled', filter: "state = 'scheduled'" },
        { label: 'Drafts', filter: "state = 'draft'" },
        { label: 'Stopped', filter: "state = 'stopped'" },
        { label: 'SMS', filter: "way = 'sms'" },
        { label: 'Mail', filter: "way = 'mail'" },
      ]}
      onOpen={(id) => navigate(`${base}/sent/${id}`)}
      example="title LIKE 'Ridge%' AND state = 'done'"
      empty={
        <Empty title="Nothing sent yet">
          <Text>
            <Anchor component={Link} to={`${base}/compose`}>
              Compose one
            </Anchor>
            , or send from the terminal:
          </Text>
          <Code>orchard notify send --title "Ridge closed" --everyone</Code>
        </Empty>
      }
      columns={[
        { name: 'title', label: 'Title', render: ({ title, body }) => shortened(title ?? body ?? '', 42) },
        { name: 'way', label: 'Way', sortable: true, render: ({ way }) => way },
        { name: 'state', label: 'State', sortable: true, render: ({ state: of }) => of },
        {
          name: 'audience',
          label: 'For',
          render: ({ audience }) => <span title={audienceWords(audience)}>{shortened(audienceWords(audience), 26)}</span>,
        },
        {
          name: 'createdAt',
          label: 'Sent',
          sortable: true,
          render: ({ state: of, start, startedAt, startAt, createdAt }) =>
            of === 'scheduled' && start && 'local' in start ? (
              `${start.local.slice(5).replace('T', ' ')} local`
            ) : (
              <Moment at={startedAt ?? startAt ?? createdAt} />
            ),
        },
        {
          name: 'bar',
          label: 'Deliveries',
          render: ({ deliveries }) => (
            <div style={{ width: '6rem', paddingTop: 6 }}>
              <DeliveryBar deliveries={deliveries} />
            </div>
          ),
        },
        ...(['total', 'arrived', 'opened'] as const).map((name) => ({
          name,
          label: name,
          right: true,
          render: ({ deliveries }: Notification) => <span className="mono">{count(deliveries[name])}</span>,
        })),
      ]}
    />
  );
}
