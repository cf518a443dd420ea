/** Your own account: password, mail address, second factors, sessions. */
import { Button, Group, Modal, PasswordInput, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall } from '../api.js';
import { Facts, Loaded, PageHead } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { ChosenPassword } from '../parts/password.js';
import { SecondFactors } from '../account/secondFactors.js';
import { ChangeEmail, Sessions } from '../account/sessions.js';
import { Ways } from '../account/ways.js';

const DIALOGS = { 'Change password': ChangePassword, 'Change e-mail address': ChangeEmail } as const;

export function AccountPage() {
  const session = useCall(operations.members.readSession, {});
  return (
    <>
      <PageHead title="Account" hint="Who you are here, how you prove it, and how to reach you" />
      <Stack gap="xl" maw={760}>
        <Loaded of={session}>
          {({ member }) => (
            <section>
              <Facts
                of={[
                  ['Name', member.name],
                  ['E-mail', member.email],
                  ['Rights', member.owner ? 'owner of the installation' : 'as the page Team shows'],
                ]}
              />
              <Dialogs />
            </section>
          )}
        </Loaded>
        <section className="panel">
          <Title order={2} mb="xs">
            Second factor
          </Title>
          <SecondFactors />
        </section>
        <section className="panel">
          <Title order={2} mb="xs">
            How to reach you
          </Title>
          <Ways />
        </section>
        <section className="panel">
          <Title order={2} mb="xs">
            Sessions
          </Title>
          <Sessions />
        </section>
      </Stack>
    </>
  );
}

function Dialogs() {
  const [shown, setShown] = useState<keyof typeof DIALOGS | null>(null);
  const close = () => setShown(null);
  const Dialog = shown && DIALOGS[shown];
  return (
    <>
      <Group mt="sm">
        {(Object.keys(DIALOGS) as (keyof typeof DIALOGS)[]).map((title) => (
          <Button key={title} variant="default" onClick={() => setShown(title)}>
            {title}
          </Button>
        ))}
      </Group>
      <Modal opened={Boolean(Dialog)} onClose={close} title={shown} closeButtonProps={{ 'aria-label': 'Close' }}>
        {Dialog && <Dialog onClose={close} />}
      </Modal>
    </>
  );
}

function ChangePassword({ onClose }: { onClose: () => void }) {
  const [isSet, setIsSet] = useState(false);
  const change = useOperationForm(operations.members.changePassword, {
    initial: { password: '', newPassword: '' },
    input: (body) => ({ body }),
    onDone: () => setIsSet(true),
    stale: [operations.members.sessions],
  });
  if (isSet)
    return (
      <Stack gap="sm">
        <Text>The new password is set. You stay signed in here; your other sessions have ended.</Text>
        <Button onClick={onClose}>Done</Button>
      </Stack>
    );
  const { getInputProps } = change.form;
  return (
    <FormOf of={change} verb="Change password">
      <PasswordInput label="Current password" required autoComplete="current-password" data-autofocus {...getInputProps('password')} />
      <ChosenPassword label="New password" {...getInputProps('newPassword')} />
    </FormOf>
  );
}
