/** Adds to a filter what people did: an event, how often, and within how many days. */
import { Button, Group, NativeSelect, NumberInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';

const USUAL_DAYS = 28;
const MOST_DAYS = 400;

/** `times('book', 28) >= 1`; a number of 0 means that somebody did not. */
export const didFilter = (event: string, least: number, days: number): string =>
  `times('${event.replaceAll("'", "''")}', ${days}) ${least === 0 ? '= 0' : `>= ${least}`}`;

export function DidPicker({ onAdd }: { onAdd: (condition: string) => void }) {
  const { params } = useEnvironment();
  const kinds = useCall(operations.events.list, { params });
  const [chosen, setChosen] = useState('');
  const [least, setLeast] = useState(1);
  const [days, setDays] = useState(USUAL_DAYS);
  const names = (kinds.data?.items ?? []).map(({ name }) => name);
  const event = chosen || names[0];
  if (!event) return null;
  return (
    <Group gap="xs" align="end">
      <NativeSelect size="xs" label="Did" value={event} onChange={({ currentTarget }) => setChosen(currentTarget.value)} data={names} />
      <NumberInput
        size="xs"
        w={120}
        label="At least times"
        description="0: did not"
        inputWrapperOrder={['label', 'input', 'description']}
        min={0}
        value={least}
        onChange={(value) => setLeast(Number(value) || 0)}
      />
      <NumberInput
        size="xs"
        w={110}
        label="In so many days"
        min={1}
        max={MOST_DAYS}
        value={days}
        onChange={(value) => setDays(Number(value) || USUAL_DAYS)}
      />
      <Button
        size="xs"
        variant="default"
        leftSection={<IconPlus size={14} aria-hidden />}
        onClick={() => onAdd(didFilter(event, least, days))}
      >
        Add to the filter
      </Button>
    </Group>
  );
}
