/** Notes on dates: charts over time show them, and the sheet lets the team write them. */
import { Button, Group, Modal, Stack, Text, TextInput } from '@mantine/core';
import { type DateNote, operations } from '@orchard/contract';
import { IconNote } from '@tabler/icons-react';
import { useContext, useState } from 'react';
import { useCall, useChange } from '../api.js';
import { EnvironmentContext, useEnvironment } from '../environment.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.dateNotes;

/** Those of the environment of this page; none on pages of the installation. */
export function useDateNotes(): DateNote[] {
  const isHere = useContext(EnvironmentContext) !== null;
  const { params } = useEnvironment();
  const notes = useCall(own.list, { params }, { enabled: isHere });
  return notes.data?.items ?? [];
}

export function DateNotes() {
  const { params, details } = useEnvironment();
  const [isOpen, setOpen] = useState(false);
  const notes = useCall(own.list, { params });
  const remove = useChange(own.remove, [operations.dateNotes]);
  const mayChange = details?.role !== 'viewer';
  return (
    <>
      <Button variant="default" leftSection={<IconNote size={16} aria-hidden />} onClick={() => setOpen(true)}>
        Notes on dates
      </Button>
      <Modal opened={isOpen} onClose={() => setOpen(false)} title="Notes on dates">
        <Stack>
          {mayChange && <NewNote />}
          <Trouble error={remove.error} />
          <Loaded of={notes}>
            {({ items }) =>
              items.length === 0 ? (
                <Text size="sm">None yet. A release, a storm or a campaign explains a bend in a chart to who reads it next.</Text>
              ) : (
                items.map(({ id, at, text }) => (
                  <Group key={id} justify="space-between" wrap="nowrap">
                    <Text size="sm">
                      <Moment at={at} /> {text}
                    </Text>
                    {mayChange && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Take ${text} off`}
                        onClick={() => remove.mutate({ params: { ...params, note: id } })}
                      >
                        Take off
                      </Button>
                    )}
                  </Group>
                ))
              )
            }
          </Loaded>
        </Stack>
      </Modal>
    </>
  );
}

function NewNote() {
  const { params } = useEnvironment();
  const form = useOperationForm(own.add, {
    initial: { at: new Date().toISOString().slice(0, 10), text: '' },
    input: (body) => ({ params, body }),
    stale: [operations.dateNotes],
    onDone: () => form.form.reset(),
  });
  const { getInputProps } = form.form;
  return (
    <FormOf of={form} verb="Add">
      <Group grow align="flex-start">
        <TextInput label="Date" type="date" required {...getInputProps('at')} />
        <TextInput label="Note" placeholder="iOS 2.7 in the store" required maxLength={80} {...getInputProps('text')} />
      </Group>
    </FormOf>
  );
}
