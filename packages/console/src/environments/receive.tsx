/** Tickets with which environments of other installations may move here, and what came of them. */
import { Button, Group, Table, Text } from '@mantine/core';
import { type ArrivalDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Code, Moment, Trouble } from '../parts/basics.js';

const own = operations.arrivals;
const SOON_MS = 2_000;
const STATES: Record<ArrivalDocument['state'], string> = {
  awaited: 'ticket not used yet',
  receiving: 'is being received',
  loading: 'its tables are being made',
  ready: 'follows what changes over there',
  arrived: 'lives here',
  failed: 'failed',
  'given-up': 'given up',
};

/** For owners of the installation. */
export function ReceiveEnvironment() {
  const [ticket, setTicket] = useState<string | null>(null);
  const arrivals = useCall(own.list, {}, { refetchInterval: SOON_MS });
  const begin = useChange(own.begin, [own]);
  const remove = useChange(own.remove, [own]);
  if (!arrivals.data) return null;
  return (
    <section className="panel">
      <Group justify="space-between">
        <Text fw={600}>Receive an environment of another installation</Text>
        <Button
          variant="default"
          loading={begin.isPending}
          onClick={() => begin.mutate({}, { onSuccess: (made) => setTicket(made.ticket) })}
        >
          Make a ticket
        </Button>
      </Group>
      {ticket && (
        <div role="status">
          <Text size="sm" mt="xs">
            Enter it at the other installation within a day. It is shown this once.
          </Text>
          <Code label="Copy the ticket">{ticket}</Code>
        </div>
      )}
      <Trouble error={begin.error ?? remove.error} />
      {arrivals.data.items.length > 0 && (
        <Table mt="xs">
          <Table.Tbody>
            {arrivals.data.items.map((arrival) => (
              <Table.Tr key={arrival.id}>
                <Table.Td>{arrival.app ? `${arrival.app} / ${arrival.environment}` : '–'}</Table.Td>
                <Table.Td>
                  {arrival.problem ?? arrival.doing ?? STATES[arrival.state]}
                  {arrival.notes.map((line) => (
                    <Text key={line} size="sm" c="dimmed">
                      {line}
                    </Text>
                  ))}
                </Table.Td>
                <Table.Td>
                  <Moment at={arrival.at} />
                </Table.Td>
                <Table.Td ta="right">
                  {!arrival.endedAt && (
                    <Button size="compact-xs" variant="default" onClick={() => remove.mutate({ params: { arrival: arrival.id } })}>
                      {arrival.state === 'awaited' ? 'Take back' : 'Give up'}
                    </Button>
                  )}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </section>
  );
}
