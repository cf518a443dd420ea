/** Who is signed in: changing one's password, and signing out. */
import { Button, Group, Menu, Modal, PasswordInput, Stack, Text, UnstyledButton } from '@mantine/core';
import { type Member, operations } from '@orchard/contract';
import { IconUser } from '@tabler/icons-react';
import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, queries, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { ChosenPassword } from '../parts/password.js';

export function MemberMenu({ member }: { member: Member }) {
  const navigate = useNavigate();
  const [changing, setChanging] = useState(false);
  async function signOut(): Promise<void> {
    await api.call(operations.members.signOut, {}).catch(() => undefined);
    queries.clear();
    navigate('/sign-in');
  }
  return (
    <>
      <Menu position="bottom-end">
        <Menu.Target>
          <UnstyledButton aria-label={`Signed in as ${member.name}`}>
            <Group gap={6} wrap="nowrap">
              <IconUser size={18} stroke={1.6} />
              <Text size="sm">{member.name}</Text>
            </Group>
          </UnstyledButton>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>{member.email}</Menu.Label>
          <Menu.Item onClick={() => setChanging(true)}>Change password</Menu.Item>
          <Menu.Item onClick={() => void signOut()}>Sign out</Menu.Item>
        </Menu.Dropdown>
      </Menu>
      <Modal opened={changing} onClose={() => setChanging(false)} title="Change password" closeButtonProps={{ 'aria-label': 'Close' }}>
        <ChangePassword onClose={() => setChanging(false)} />
      </Modal>
    </>
  );
}

function ChangePassword({ onClose }: { onClose: () => void }) {
  const [password, setPassword] = useState('');
  const [newPassword, setNewPassword] = useState('');
  const change = useChange(operations.members.changePassword);
  function submit(event: FormEvent): void {
    event.preventDefault();
    change.mutate({ body: { password, newPassword } });
  }
  if (change.isSuccess)
    return (
      <Stack gap="sm">
        <Text>The new password is set. You stay signed in here; your other sessions have ended.</Text>
        <Button onClick={onClose}>Done</Button>
      </Stack>
    );
  return (
    <form onSubmit={submit}>
      <Stack gap="sm">
        <PasswordInput
          label="Current password"
          required
          autoComplete="current-password"
          data-autofocus
          value={password}
          onChange={({ currentTarget }) => setPassword(currentTarget.value)}
        />
        <ChosenPassword label="New password" value={newPassword} onChange={setNewPassword} />
        <Trouble error={change.error} />
        <Button type="submit" loading={change.isPending}>
          Change it
        </Button>
      </Stack>
    </form>
  );
}
