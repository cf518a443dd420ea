/** A button for an action that cannot be undone: it asks first. */
import { Button, type ButtonProps, Group, Modal, Text } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import type { UseMutationResult } from '@tanstack/react-query';
import { Trouble } from './basics.js';

type Props = {
  label: string;
  /** The label of the confirming button. */
  verb: string;
  question: string;
  /** A sentence that says what is deleted. */
  consequence: string;
  change: Pick<UseMutationResult, 'error' | 'isPending'>;
  /** Performs the action; `done` closes the dialog. */
  onConfirm: (done: () => void) => void;
  size?: ButtonProps['size'];
};

export function ConfirmedButton({ label, verb, question, consequence, change, onConfirm, size = 'sm' }: Props) {
  const [asking, { open, close }] = useDisclosure();
  return (
    <>
      <Button size={size} variant="subtle" color="persimmon" c="var(--care)" onClick={open}>
        {label}
      </Button>
      <Modal opened={asking} onClose={close} title={question}>
        <Text mb="md">{consequence}</Text>
        <Trouble error={change.error} />
        <Group justify="flex-end">
          <Button variant="default" onClick={close}>
            Cancel
          </Button>
          <Button color="persimmon.8" loading={change.isPending} onClick={() => onConfirm(close)}>
            {verb}
          </Button>
        </Group>
      </Modal>
    </>
  );
}
