/** The environments of the app. */
import { Group, NativeSelect, Stack, Switch, Text, TextInput } from '@mantine/core';
import { type Environment, operations } from '@orchard/contract';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { MoveEnvironment } from '../environments/moveEnvironment.js';
import { ReceiveEnvironment } from '../environments/receive.js';
import { BeginWith } from '../releases/beginWith.js';
import { useEnvironment } from '../environment.js';

const MODE_WORDS = {
  open: 'open: a first write creates collections and fields',
  closed: 'closed: unknown collections and fields are refused',
} as const;
type Mode = keyof typeof MODE_WORDS;

export function EnvironmentsPage() {
  const { params } = useEnvironment();
  const apps = useCall(operations.apps.list, {});
  return (
    <Stack gap="lg">
      <PageHead title="Environments" hint="Isolated copies of the app’s backend: each has its own data, users, devices and keys">
        <FromCode calls={[coded(operations.apps.list, {}, `orchard env list --app ${params.app}`)]} />
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
      <ReceiveEnvironment />
    </Stack>
  );
}

function OneEnvironment({ environment }: { environment: Environment }) {
  const { name, mode, widening, role, app } = environment;
  const change = useChange(operations.environments.patch, [operations.apps, operations.environments]);
  const mayChange = (role === 'owner' || role === 'maintainer') && environment.movedTo === null;
  return (
    <section className="panel">
      <Group justify="space-between">
        <Text fw={600}>
          {app} / {name}{' '}
          <Text span c="dimmed" fw={400}>
            created <Moment at={environment.createdAt} />, you are its {role}
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
      {mode === 'open' && environment.movedTo === null && (
        <Switch
          mt="xs"
          label="A number with a fraction turns an integer field into a number field"
          description="Off: such a write is refused. On: the response says so, and so does the collection’s page"
          checked={widening}
          disabled={!mayChange || change.isPending}
          onChange={({ currentTarget }) => change.mutate({ params: { app, environment: name }, body: { widening: currentTarget.checked } })}
        />
      )}
      <Trouble error={change.error} />
      <MoveEnvironment environment={environment} />
    </section>
  );
}

function NewEnvironment() {
  const { params } = useEnvironment();
  const navigate = useNavigate();
  const [begin, setBegin] = useState('');
  const create = useOperationForm(operations.environments.create, {
    initial: { name: '' },
    input: (body) => ({ params: { app: params.app }, body }),
    onDone: ({ app, name }) => navigate(`/${app}/${name}/${begin ? `releases?with=${begin}` : 'setup'}`),
    stale: [operations.apps],
  });
  return (
    <div className="panel">
      <FormOf of={create} verb="Add environment" row>
        <TextInput label="New environment" placeholder="staging" required {...create.form.getInputProps('name')} />
        <BeginWith value={begin} onChange={setBegin} from={`${params.app}/${params.environment}`} />
      </FormOf>
    </div>
  );
}
