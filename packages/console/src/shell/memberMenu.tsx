/** Who is signed in: the account, and sign out. */
import { Group, Menu, Text, UnstyledButton } from '@mantine/core';
import { type Member, operations } from '@orchard/contract';
import { IconUser } from '@tabler/icons-react';
import { Link, useNavigate } from 'react-router';
import { api, queries } from '../api.js';
import { useEnvironment } from '../environment.js';

export function MemberMenu({ member }: { member: Member }) {
  const navigate = useNavigate();
  const { base } = useEnvironment();
  async function signOut(): Promise<void> {
    await api.call(operations.members.signOut, {}).catch(() => undefined);
    queries.clear();
    navigate('/sign-in');
  }
  return (
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
        <Menu.Item component={Link} to={`${base}/account`}>
          Account
        </Menu.Item>
        <Menu.Item onClick={() => void signOut()}>Sign out</Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}
