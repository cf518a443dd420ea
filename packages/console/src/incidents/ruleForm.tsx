/** A new rule: of what, whom, and who is next. */
import { Button, Group, MultiSelect, NumberInput, SegmentedControl, Select, Stack, TextInput } from '@mantine/core';
import {
  ALERT_CAUSES,
  type AlertCause,
  type AlertRule,
  type AlertSettings,
  type AlertTarget,
  ROLES,
  type TeamMember,
} from '@orchard/contract';
import { useState } from 'react';

const MOST_STEPS = 3;

type Props = { settings: AlertSettings; members: readonly TeamMember[]; onAdd: (rule: AlertRule) => void };

export function RuleForm({ settings, members, onAdd }: Props) {
  const [name, setName] = useState('');
  const [on, setOn] = useState<AlertCause>('condition');
  const [from, setFrom] = useState<'stressed' | 'failing'>('failing');
  const [steps, setSteps] = useState<string[][]>([[], [], []]);
  const [nextAfterMin, setNext] = useState(15);
  const [remindAfterMin, setRemind] = useState(30);
  const choices = [
    { group: 'On call', items: settings.rotas.map((rota) => ({ value: `on-call ${rota.name}`, label: `on call (${rota.name})` })) },
    { group: 'Roles', items: ROLES.map((role) => ({ value: `role ${role}`, label: `every ${role}` })) },
    { group: 'Members', items: members.map((member) => ({ value: `member ${member.id}`, label: member.name })) },
    { group: 'Webhooks', items: settings.webhooks.map((hook) => ({ value: `webhook ${hook.name}`, label: `webhook ${hook.name}` })) },
  ].filter(({ items }) => items.length > 0);
  const told = steps.filter((step) => step.length > 0);
  return (
    <Stack>
      <TextInput label="Name" placeholder="failing" required value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
      <Select
        label="When"
        allowDeselect={false}
        data={Object.entries(ALERT_CAUSES).map(([value, label]) => ({ value, label }))}
        value={on}
        onChange={(value) => setOn(value as AlertCause)}
      />
      {on === 'condition' && (
        <SegmentedControl
          aria-label="How bad"
          value={from}
          onChange={(value) => setFrom(value as 'failing')}
          data={['stressed', 'failing']}
        />
      )}
      {Array.from({ length: Math.min(MOST_STEPS, told.length + 1) }, (_, i) => (
        <MultiSelect
          // biome-ignore lint/suspicious/noArrayIndexKey: a step is its place
          key={i}
          label={i === 0 ? 'First' : 'Then, when nobody answers'}
          data={choices}
          value={steps[i] ?? []}
          searchable
          onChange={(value) => setSteps(steps.map((step, at) => (at === i ? value : step)))}
        />
      ))}
      <Group>
        <NumberInput label="Next after (minutes)" min={1} max={1440} value={nextAfterMin} onChange={(value) => setNext(Number(value))} />
        <NumberInput
          label="Remind after (minutes)"
          min={5}
          max={1440}
          value={remindAfterMin}
          onChange={(value) => setRemind(Number(value))}
        />
      </Group>
      <Group justify="flex-end">
        <Button
          disabled={name === '' || told.length === 0}
          onClick={() => onAdd({ name, on, from, steps: told.map((step) => step.map(targetOf)), nextAfterMin, remindAfterMin })}
        >
          Add rule
        </Button>
      </Group>
    </Stack>
  );
}

function targetOf(value: string): AlertTarget {
  const at = value.indexOf(' ');
  const [to, name] = [value.slice(0, at), value.slice(at + 1)];
  if (to === 'member') return { to, member: name };
  if (to === 'role') return { to, role: name as (typeof ROLES)[number] };
  return to === 'on-call' ? { to, rota: name } : { to: 'webhook', webhook: name };
}
