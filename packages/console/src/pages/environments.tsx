/** The environments of the app. */
import { Button, Group, NativeSelect, Stack, Switch, Text, TextInput } from '@mantine/core';
import { type Environment, operations } from '@orchard/contract';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { usePlace } from '../place.js';

const MODE_WORDS = {
  open: 'open: a first write makes collections and fields',
  closed: 'closed: unknown collections and fields are refused',
} as const;
type Mode = keyof typeof MODE_WORDS;

export function EnvironmentsPage() {
  const { params } = usePlace();
  const apps = useCall(operations.apps.list, {});
  return (
    <Stack gap="lg">
      <PageHead title="Environments" hint="Isolated copies of the app’s backend: each has its own data, users, devices and keys">
        <FromCode same={{ command: `orchard env list --app ${params.app}`, method: 'GET', path: '/manage/v1/apps' }} />
      </PageHead>
      <Loaded of={apps}>
        {({ items }) => (
          <>
            {(items.find(({ name }) => name === params.app)?.environments ?? []).map((item) => (
              <OneEnvironment key={item.name} environment={item} />
            ))}
          </>
        )}
      </Loaded>
      <NewEnvironment />
    </Stack>
  );
}

function OneEnvironment({ environment }: { environment: Environment }) {
  const { name, mode, widening, role, app } = environment;
  const change = useChange(operations.environments.patch, ['apps.', 'environments.']);
  const mayChange = role === 'owner' || role === 'maintainer';
  return (
    <section className="panel">
      <Group justify="space-between">
        <Text fw={600}>
          {app} / {name}{' '}
          <Text span c="dimmed" fw={400}>
            made <Moment at={environment.createdAt} />, you are its {role}
          </Text>
        </Text>
        <NativeSelect
          aria-label={`Mode of ${name}`}
          value={mode}
          disabled={!mayChange || change.isPending}
          onChange={({ currentTarget }) =>
            change.mutate({ params: { app, environment: name }, body: { mode: currentTarget.value as Mode } })
          }
          data={Object.entries(MODE_WORDS).map(([value, label]) => ({ value, label }))}
        />
      </Group>
      {mode === 'open' && (
        <Switch
          mt="xs"
          label="A number with a fraction makes an integer field one of numbers"
          description="Off: such a write is refused. On: it is told in the answer, and here"
          checked={widening}
          disabled={!mayChange || change.isPending}
          onChange={({ currentTarget }) => change.mutate({ params: { app, environment: name }, body: { widening: currentTarget.checked } })}
        />
      )}
      <Trouble error={change.error} />
    </section>
  );
}

function NewEnvironment() {
  const { params } = usePlace();
  const navigate = useNavigate();
  const [name, setName] = useState('');
  const create = useChange(operations.environments.create, ['apps.']);
  return (
    <form
      className="panel"
      onSubmit={(event) => {
        event.preventDefault();
        create.mutate({ params: { app: params.app }, body: { name } }, { onSuccess: () => navigate(`/${params.app}/${name}/setup`) });
      }}
    >
      <Group align="flex-end">
        <TextInput
          label="New environment"
          placeholder="staging"
          required
          value={name}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
        />
        <Button type="submit" variant="default" loading={create.isPending}>
          Add
        </Button>
      </Group>
      <Trouble error={create.error} />
    </form>
  );
}
