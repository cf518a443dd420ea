/** What an environment keeps of its calls, and for how long. */
import { Button, Group, Modal, NumberInput, Switch, TagsInput } from '@mantine/core';
import { operations, type Recording } from '@orchard/contract';
import { IconSettings } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.telemetry;

export function RecordingSettings() {
  const { params, details } = useEnvironment();
  const recording = useCall(own.recording, { params });
  const [open, setOpen] = useState(false);
  if (!recording.data || (details?.role !== 'maintainer' && details?.role !== 'owner')) return null;
  return (
    <>
      <Button variant="default" leftSection={<IconSettings size={16} />} onClick={() => setOpen(true)}>
        What is kept
      </Button>
      <Modal opened={open} onClose={() => setOpen(false)} title="What is kept of calls" size="lg">
        <SettingsForm of={recording.data} onDone={() => setOpen(false)} />
      </Modal>
    </>
  );
}

function SettingsForm({ of, onDone }: { of: Recording; onDone: () => void }) {
  const { params } = useEnvironment();
  const { headers, bodies, maskedFields, keptDays } = of;
  const form = useOperationForm(own.changeRecording, {
    initial: { headers, bodies, maskedFields, keptDays: { ...keptDays, requests: keptDays.requests ?? ('' as number | '') } },
    input: ({ keptDays: days, ...values }) => ({
      params,
      body: { ...values, keptDays: { ...days, requests: days.requests === '' ? null : days.requests } },
    }),
    onDone,
    stale: [own.recording],
  });
  const { getInputProps } = form.form;
  const days = (name: keyof Recording['keptDays'], label: string, description: string) => (
    <NumberInput label={label} description={description} min={1} allowDecimal={false} {...getInputProps(`keptDays.${name}`)} />
  );
  return (
    <FormOf of={form} verb="Save">
      <Switch label="Headers and timelines" {...getInputProps('headers', { type: 'checkbox' })} />
      <Switch
        label="Bodies of refused and failed calls"
        description="Up to 8 kB. They can hold personal data of your users."
        {...getInputProps('bodies', { type: 'checkbox' })}
      />
      <TagsInput label="Fields masked in them" description="Besides those of secrets" {...getInputProps('maskedFields')} />
      <Group grow align="flex-start">
        {days('requests', 'Requests, days', 'Empty: as the installation is set')}
        {days('minutes', 'Counts by minute, days', 'For charts of a few hours')}
      </Group>
      <Group grow align="flex-start">
        {days('hours', 'Counts by hour, days', 'For charts of some weeks')}
        {days('days', 'Counts by day, days', 'For charts of months')}
      </Group>
    </FormOf>
  );
}
