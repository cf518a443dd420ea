/** What a notification did: who opened it and then did something, beside those it did not reach. */
import { Group, NativeSelect, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { percent } from '../insight/question.js';
import { Loaded } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';

const HOUR_MS = 3_600_000;
const WITHIN = [1, 6, 24, 72, 168];

export function Effect({ id }: { id: string }) {
  const { params } = useEnvironment();
  const kinds = useCall(operations.events.list, { params });
  const names = (kinds.data?.items ?? []).map(({ name }) => name);
  const [chosen, setEvent] = useAddressState('event');
  const [hours, setHours] = useAddressState('within', '24');
  const event = chosen || names[0] || '';
  const effect = useCall(
    operations.insight.effect,
    { params, body: { notification: id, event, withinMs: Number(hours) * HOUR_MS } },
    { enabled: event !== '' },
  );
  if (names.length === 0) return null;
  return (
    <section className="panel" aria-label="What it did">
      <Group justify="space-between" mb="xs">
        <Title order={2}>What it did</Title>
        <Group gap="xs">
          <NativeSelect
            size="xs"
            aria-label="Event"
            value={event}
            onChange={({ currentTarget }) => setEvent(currentTarget.value)}
            data={names}
          />
          <NativeSelect
            size="xs"
            aria-label="Within"
            value={hours}
            onChange={({ currentTarget }) => setHours(currentTarget.value)}
            data={WITHIN.map((value) => ({ value: String(value), label: `within ${value} h` }))}
          />
        </Group>
      </Group>
      <Loaded of={effect}>
        {({ items, p }) => (
          <>
            <div className="listing" style={{ borderTop: 0 }}>
              <table>
                <TableHead columns={['Outcome', 'Variant', { right: 'People' }, { right: `Then ${event}` }, { right: 'Share' }]} />
                <tbody>
                  {items.map(({ outcome, variant, people, did, share }) => (
                    <tr key={`${outcome} ${variant}`}>
                      <td>{outcome}</td>
                      <td>{variant}</td>
                      <td className="right mono">{count(people)}</td>
                      <td className="right mono">{count(did)}</td>
                      <td className="right mono">{percent(share)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
            <Text size="sm" c="dimmed" mt={4}>
              {p === null
                ? 'To tell chance apart it takes both people who opened it and people it did not reach.'
                : p < 0.05
                  ? `Those who opened it differ from those it did not reach by more than chance (p = ${p.toPrecision(2)}).`
                  : `Those who opened it differ from those it did not reach by no more than chance may (p = ${p.toPrecision(2)}).`}
            </Text>
          </>
        )}
      </Loaded>
    </section>
  );
}
