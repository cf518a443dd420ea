/** All apps, and making one. */
import { Anchor, Badge, Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type Member, operations } from '@orchard/contract';
import { type FormEvent, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Loaded, PageHead, Trouble } from '../parts/basics.js';

export function AppsPage({ member }: { member: Member }) {
  const apps = useCall(operations.apps.list, {});
  return (
    <Stack component="main" maw={820} mx="auto" p="xl" gap="lg">
      <PageHead title="Apps" hint={`Signed in as ${member.name}`} />
      <Loaded of={apps}>
        {({ items }) => (
          <>
            {items.length === 0 && (
              <Text>
                An app is one product with a mobile or web front. Each app gets the environments dev and live, with data, users, devices and
                keys of their own.
              </Text>
            )}
            {items.map((app) => (
              <section key={app.name} className="panel">
                <Title order={2}>{app.title}</Title>
                <Group gap="md" mt={4}>
                  {app.environments.map(({ name, mode, role }) => (
                    <Group key={name} gap={6}>
                      <Anchor component={Link} to={`/${app.name}/${name}/overview`}>
                        {app.name} / {name}
                      </Anchor>
                      <Badge variant="outline" size="sm" color="gray" c="inherit">
                        {mode}, {role}
                      </Badge>
                    </Group>
                  ))}
                </Group>
              </section>
            ))}
          </>
        )}
      </Loaded>
      {member.owner && <NewApp />}
    </Stack>
  );
}

function NewApp() {
  const [name, setName] = useState('');
  const navigate = useNavigate();
  const create = useChange(operations.apps.create, ['apps.']);
  async function submit(event: FormEvent): Promise<void> {
    event.preventDefault();
    const app = await create.mutateAsync({ body: { name } }).catch(() => null);
    if (app) navigate(`/${app.name}/dev/setup`);
  }
  return (
    <form onSubmit={(event) => void submit(event)} className="panel">
      <Group align="flex-end" gap="sm">
        <TextInput
          label="New app"
          description="Lower-case letters, digits and -"
          placeholder="quillfell-warden"
          required
          value={name}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
          w={320}
        />
        <Button type="submit" loading={create.isPending}>
          Create app
        </Button>
      </Group>
      <Trouble error={create.error} />
    </form>
  );
}
