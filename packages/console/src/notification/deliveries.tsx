/** The deliveries of a notification, down to the network's response. */
import { Anchor, Drawer, Stack, Text, Title } from '@mantine/core';
import { type Delivery, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Empty, Facts, Moment } from '../parts/basics.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, useEnvironment } from '../environment.js';

export function Deliveries({ id }: { id: string }) {
  const { params } = useEnvironment();
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
            <Text>They appear when it is sent.</Text>
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

/** One delivery, down to the network's response. */
function OneDelivery({ delivery }: { delivery: Delivery }) {
  const { base } = useEnvironment();
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
