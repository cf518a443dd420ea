/** The instances that serve this installation, and the database that each uses. */
import { Table, Text } from '@mantine/core';
import { counted, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { Moment } from '../parts/basics.js';

const OFTEN_MS = 4_000;

const offBy = (behindMs: number): string =>
  `${counted(Math.max(1, Math.round(Math.abs(behindMs) / 1_000)), 'second')} ${behindMs > 0 ? 'behind' : 'ahead'}`;

export function Instances() {
  const { data } = useCall(operations.instances.list, {}, { refetchInterval: OFTEN_MS });
  if (!data) return null;
  return (
    <section className="panel">
      <Text fw={600}>Instances</Text>
      <Table mt="xs" aria-label="Instances">
        <Table.Thead>
          <Table.Tr>
            {['Machine', 'Version', 'Database', 'State', 'Since'].map((label) => (
              <Table.Th key={label}>{label}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {data.items.map(({ id, host, port, version, database, state, startedAt, isThis, clockBehindMs }) => (
            <Table.Tr key={id}>
              <Table.Td>
                <span className="mono">
                  {host}:{port}
                </span>
                {isThis && (
                  <Text span c="dimmed" size="sm">
                    {' '}
                    answered this page
                  </Text>
                )}
              </Table.Td>
              <Table.Td>{version}</Table.Td>
              <Table.Td className="mono">{database}</Table.Td>
              <Table.Td>
                {state}
                {clockBehindMs !== 0 && (
                  <Text c="var(--care)" size="sm">
                    Its clock is {offBy(clockBehindMs)}. The service goes by the database’s.
                  </Text>
                )}
              </Table.Td>
              <Table.Td>
                <Moment at={startedAt} />
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </section>
  );
}
