/** A new rota: who is on call in turn, and when they hand over. */
import { Button, Group, MultiSelect, NumberInput, Stack, TextInput } from '@mantine/core';
import type { RotaDocument, TeamMember } from '@orchard/contract';
import { useState } from 'react';

/** From then on somebody is on call now, whatever the time of the hand-over. */
const yesterday = (): string => new Date(Date.now() - 86_400_000).toISOString().slice(0, 10);

export function RotaForm({ members, onAdd }: { members: readonly TeamMember[]; onAdd: (rota: RotaDocument) => void }) {
  const [rota, setRota] = useState<RotaDocument>({
    name: 'duty',
    timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
    members: [],
    startsOn: yesterday(),
    handOver: '09:00',
    days: 7,
    replacements: [],
  });
  const change = (changes: Partial<RotaDocument>) => setRota((before) => ({ ...before, ...changes }));
  return (
    <Stack>
      <TextInput label="Name" required value={rota.name} onChange={({ currentTarget: { value } }) => change({ name: value })} />
      <MultiSelect
        label="In turn"
        searchable
        data={members.map(({ id, name }) => ({ value: id, label: name }))}
        value={rota.members}
        onChange={(value) => change({ members: value })}
      />
      <Group>
        <TextInput
          type="date"
          label="First turn begins"
          value={rota.startsOn}
          onChange={({ currentTarget: { value } }) => change({ startsOn: value })}
        />
        <TextInput
          type="time"
          label="Hand-over"
          value={rota.handOver}
          onChange={({ currentTarget: { value } }) => change({ handOver: value })}
        />
        <NumberInput label="Days each" min={1} max={28} value={rota.days} onChange={(value) => change({ days: Number(value) })} />
      </Group>
      <TextInput label="Time zone" value={rota.timeZone} onChange={({ currentTarget: { value } }) => change({ timeZone: value })} />
      <Group justify="flex-end">
        <Button disabled={rota.members.length === 0} onClick={() => onAdd(rota)}>
          Add rota
        </Button>
      </Group>
    </Stack>
  );
}
