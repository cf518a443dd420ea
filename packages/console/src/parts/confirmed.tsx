/** A button for what cannot be undone: it asks first. */
import { Button, type ButtonProps, Group, Modal, Text } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import type { UseMutationResult } from '@tanstack/react-query';
import { Trouble } from './basics.js';

type Props = {
  label: string;
  /** The word on the button that does it. */
  verb: string;
  question: string;
  /** What will be gone, in a sentence. */
  consequence: string;
  change: Pick<UseMutationResult, 'error' | 'isPending'>;
  /** Does it; `done` closes the question. */
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
            Keep it
          </Button>
          <Button color="persimmon.8" loading={change.isPending} onClick={() => onConfirm(close)}>
            {verb}
          </Button>
        </Group>
      </Modal>
    </>
  );
}
