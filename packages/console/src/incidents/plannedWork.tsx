/** Planned work: what is announced, and a form for more. */
import { Button, Group, Modal, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { actorWords, operations } from '@orchard/contract';
import { IconTool } from '@tabler/icons-react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Moment } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.incidents;
/** The field has local time without a zone. */
const instant = (local: string): string => (local ? new Date(local).toISOString() : '');

export function PlannedWork() {
  const { params, details } = useEnvironment();
  const planned = useCall(own.planned, { params });
  const remove = useChange(own.unplan);
  const [opened, { open, close }] = useDisclosure();
  const mayPlan = details?.role === 'maintainer' || details?.role === 'owner';
  const current = (planned.data?.items ?? []).filter(({ until }) => Date.parse(until) > Date.now());
  const form = useOperationForm(own.plan, {
    initial: { from: '', until: '', why: '' },
    input: ({ from, until, why }) => ({ params, body: { from: instant(from), until: instant(until), why } }),
    onDone: close,
  });
  return (
    <div>
      {current.map(({ id, from, until, why, by }) => (
        <Group key={id} gap="xs" mb={4}>
          <IconTool size={16} aria-hidden />
          <Text size="sm">
            Planned work from <Moment at={from} /> to <Moment at={until} />: {why} ({actorWords(by)}). Nobody is alerted.
          </Text>
          {mayPlan && (
            <Button size="compact-xs" variant="subtle" onClick={() => remove.mutate({ params: { ...params, work: id } })}>
              Remove
            </Button>
          )}
        </Group>
      ))}
      {mayPlan && (
        <Button size="xs" mb="xs" variant="default" onClick={open}>
          Plan work
        </Button>
      )}
      <Modal opened={opened} onClose={close} title="Planned work">
        <Text size="sm" mb="sm">
          Nobody is alerted during it, and what fails spends no error budget. The condition is shown as it is.
        </Text>
        <FormOf of={form} verb="Announce">
          <TextInput type="datetime-local" label="From" required {...form.form.getInputProps('from')} />
          <TextInput type="datetime-local" label="Until" required {...form.form.getInputProps('until')} />
          <TextInput label="What is done" required {...form.form.getInputProps('why')} />
        </FormOf>
      </Modal>
    </div>
  );
}
