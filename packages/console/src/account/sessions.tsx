/** Your own sessions, and a new mail address for yourself. */
import { Button, Group, PasswordInput, Stack, Text, TextInput } from '@mantine/core';
import { type MemberSession, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { agentWords } from '../parts/format.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

export function Sessions() {
  const sessions = useCall(operations.members.sessions, {});
  const endOne = useChange(operations.members.endSession, [operations.members.sessions]);
  const endOthers = useChange(operations.members.endOthers, [operations.members.sessions]);
  return (
    <Loaded of={sessions}>
      {({ items }) => (
        <Stack>
          {items.map((session) => (
            <Group key={session.id} justify="space-between" wrap="nowrap">
              <div>
                <Text size="sm">
                  {describe(session)}
                  {session.current && ' (this one)'}
                </Text>
                <Text size="sm" c="dimmed">
                  {session.address}, signed in <Moment at={session.createdAt} />, last seen <Moment at={session.lastSeenAt} />
                </Text>
              </div>
              {!session.current && (
                <Button
                  size="compact-xs"
                  variant="subtle"
                  c="var(--care)"
                  onClick={() => endOne.mutate({ params: { session: session.id } })}
                >
                  End
                </Button>
              )}
            </Group>
          ))}
          <Trouble error={endOne.error ?? endOthers.error} />
          <Group justify="flex-end">
            <Button variant="default" disabled={items.length < 2} loading={endOthers.isPending} onClick={() => endOthers.mutate({})}>
              End all others
            </Button>
          </Group>
        </Stack>
      )}
    </Loaded>
  );
}

const describe = ({ kind, userAgent }: MemberSession): string =>
  [kind === 'cookie' ? 'Browser' : 'Command', userAgent && agentWords(userAgent)].filter(Boolean).join(': ');

export function ChangeEmail({ onClose }: { onClose: () => void }) {
  const [sentTo, setSentTo] = useState<string | null>(null);
  const change = useOperationForm(operations.members.changeEmail, {
    initial: { email: '', password: '' },
    input: (body) => ({ body }),
    onDone: (_, { email }) => setSentTo(email),
    stale: [],
  });
  if (sentTo)
    return (
      <Stack gap="sm">
        <Text>A mail is on its way to {sentTo}. Open the address in it within a day; until then nothing changes.</Text>
        <Button onClick={onClose}>Done</Button>
      </Stack>
    );
  const { getInputProps } = change.form;
  return (
    <FormOf of={change} verb="Send confirmation">
      <TextInput label="New e-mail address" type="email" required data-autofocus {...getInputProps('email')} />
      <PasswordInput label="Current password" required autoComplete="current-password" {...getInputProps('password')} />
    </FormOf>
  );
}
