/** Standing notifications: what is sent for each record, who gets what next, and what was sent. */
import { Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { operations, type Standing, standingWords } from '@orchard/contract';
import { useState } from 'react';
import { OFTEN, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { StandingForm } from '../standing/form.js';
import { SentTable, UpcomingTable } from '../standing/tables.js';

export function StandingPage() {
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Standing notifications"
        hint="Sent for each record, so long before or after a date or time in it"
        operation={operations.standing.list}
        {...OFTEN}
        label="Standing notifications"
        idOf={({ id }) => id}
        empty={
          <Empty title="No standing notifications yet">
            <Text>“The evening before arrival”: for each booking, at 18:00 of the day before its date, on the clock of who gets it.</Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Name', render: ({ name }) => name },
          { name: 'collection', label: 'For each of', render: ({ collection }) => <span className="mono">{collection}</span> },
          { name: 'when', label: 'When', render: standingWords },
          { name: 'sent', label: 'Sent in 30 days', right: true, render: ({ sent }) => <span className="mono">{count(sent)}</span> },
          { name: 'lastSentAt', label: 'Last', render: ({ lastSentAt }) => (lastSentAt ? <Moment at={lastSentAt} /> : 'never') },
          {
            name: 'state',
            label: 'State',
            render: ({ active, problem }) => (problem ? <span className="care">cannot be sent</span> : active ? 'on' : 'off'),
          },
        ]}
        drawer={{
          title: 'Standing notification',
          size: 'xl',
          render: (id, close, items) => {
            const standing = items.find((one) => one.id === id);
            return standing && <OneStanding key={standing.changedAt} standing={standing} onGone={close} />;
          },
        }}
      >
        <Button onClick={() => setAdding('new')}>Add standing notification</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="xl" title="Add standing notification">
        {adding && <StandingForm standing={null} onSaved={() => setAdding(null)} />}
      </Drawer>
    </>
  );
}

/** How many are shown at first. */
const FIRST = 5;

function OneStanding({ standing, onGone }: { standing: Standing; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, standing: standing.id };
  const [limit, setLimit] = useState(FIRST);
  const next = useCall(operations.standing.next, { params: at, query: { limit } });
  const sent = useCall(operations.standing.sent, { params: at, query: { limit: 20 } }, OFTEN);
  const remove = useChange(operations.standing.remove);
  return (
    <Stack gap="lg">
      <div>
        <Title order={2}>{standing.name}</Title>
        <Text c="dimmed">
          For each of <span className="mono">{standing.collection}</span>
          {standing.filter && (
            <>
              {' '}
              with <span className="mono">{standing.filter}</span>
            </>
          )}
          , {standingWords(standing)}.{!standing.active && ' It is off.'}
        </Text>
        {standing.problem && <Text className="care">It cannot be sent: {standing.problem}</Text>}
      </div>
      <section>
        <Title order={3}>Who gets what next</Title>
        <Loaded of={next}>
          {({ items }) => (
            <>
              <UpcomingTable items={items} collection={standing.collection} />
              {items.length === FIRST && (
                <Button mt="xs" size="compact-sm" variant="subtle" onClick={() => setLimit(100)}>
                  Show more
                </Button>
              )}
            </>
          )}
        </Loaded>
      </section>
      <section>
        <Title order={3}>Sent</Title>
        <Loaded of={sent}>{({ items }) => <SentTable items={items} collection={standing.collection} />}</Loaded>
      </section>
      <section>
        <Title order={3}>Definition</Title>
        <StandingForm standing={standing} onSaved={() => undefined} />
      </section>
      <Group>
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          question={`Delete ${standing.name}?`}
          consequence="Nothing more is sent for it."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
