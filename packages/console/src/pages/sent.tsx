/** Notifications that were sent. */
import { Anchor, Text } from '@mantine/core';
import { type Notification, operations } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { useCall } from '../api.js';
import { Code, count, Empty, Moment, PageHead } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { usePlace } from '../place.js';
import { SERIES } from '../theme.js';

const STATES = [
  ['sent', SERIES.viridian],
  ['queued', SERIES.slate],
  ['failed', SERIES.persimmon],
  ['skipped', '#a39e92'],
] as const;

export function audienceWords(audience: Notification['audience']): string {
  if ('everyone' in audience) return 'everyone';
  return 'user' in audience ? `user …${audience.user.slice(-8)}` : `device ${audience.device}`;
}

/** The deliveries of a notification as one bar, by what became of them. */
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
  const { params, base } = usePlace();
  const navigate = useNavigate();
  const state = useListState();
  const sent = useCall(operations.notifications.list, { params, query: { ...state.query, limit: 40 } });
  return (
    <>
      <PageHead title="Sent" hint="Notifications, the latest first">
        <FromCode
          same={{
            command: `orchard notify list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/notifications`,
          }}
        />
      </PageHead>
      <Listing
        label="Notifications"
        state={state}
        answer={sent}
        idOf={({ id }) => id}
        openId=""
        onOpen={(id) => navigate(`${base}/sent/${id}`)}
        example="createdBy LIKE 'server key%'"
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
          { name: 'title', label: 'Title', render: ({ title }) => title },
          { name: 'audience', label: 'For', render: ({ audience }) => audienceWords(audience) },
          { name: 'createdAt', label: 'Sent', sortable: true, render: ({ createdAt }) => <Moment at={createdAt} /> },
          { name: 'createdBy', label: 'By', sortable: true, render: ({ createdBy }) => createdBy },
          {
            name: 'bar',
            label: 'Deliveries',
            render: ({ deliveries }) => (
              <div style={{ width: '9rem', paddingTop: 6 }}>
                <DeliveryBar deliveries={deliveries} />
              </div>
            ),
          },
          ...STATES.map(([name]) => ({
            name,
            label: name,
            right: true,
            render: ({ deliveries }: Notification) => <span className="mono">{count(deliveries[name])}</span>,
          })),
        ]}
      />
    </>
  );
}
