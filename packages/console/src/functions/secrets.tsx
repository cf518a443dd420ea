/** Secrets that functions and upstreams may read: set, replaced and deleted here, and never shown. */
import { Button, Group, PasswordInput, Stack, Text, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';

export function Secrets() {
  const { params } = useEnvironment();
  const answer = useCall(operations.functions.secrets, { params });
  return (
    <Stack gap="md">
      <Text size="sm">
        A function reads one with <code>secret('name')</code>; its value is hidden in logs. Nobody is shown it again.
      </Text>
      <Loaded of={answer}>
        {({ items }) =>
          items.length === 0 ? (
            <Text size="sm">No secret yet.</Text>
          ) : (
            <section className="listing" aria-label="Secrets">
              <table>
                <thead>
                  <tr>
                    <th>Name</th>
                    <th>Set</th>
                    <th>Change</th>
                  </tr>
                </thead>
                <tbody>
                  {items.map(({ name, changedAt }) => (
                    <tr key={name}>
                      <td className="mono">{name}</td>
                      <td>
                        <Moment at={changedAt} />
                      </td>
                      <td>
                        <Removal name={name} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )
        }
      </Loaded>
      <SetSecret />
    </Stack>
  );
}

function Removal({ name }: { name: string }) {
  const { params } = useEnvironment();
  const remove = useChange(operations.functions.removeSecret);
  return (
    <ConfirmedButton
      size="xs"
      label={`Delete ${name}`}
      verb="Delete"
      question={`Delete the secret ${name}?`}
      consequence="Functions and upstreams that read it fail from the next call on."
      change={remove}
      onConfirm={(close) => remove.mutate({ params: { ...params, secret: name } }, { onSuccess: close })}
    />
  );
}

function SetSecret() {
  const { params } = useEnvironment();
  const [name, setName] = useState('');
  const [value, setValue] = useState('');
  const put = useChange(operations.functions.putSecret);
  const save = () =>
    put.mutate(
      { params: { ...params, secret: name.trim() }, body: { value } },
      {
        onSuccess: () => {
          setName('');
          setValue('');
        },
      },
    );
  return (
    <section className="panel" aria-label="Set a secret">
      <Stack gap="xs">
        <TextInput
          label="Name"
          description="One that is there gets the new value"
          value={name}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
          classNames={{ input: 'mono' }}
        />
        <PasswordInput label="Value" autoComplete="off" value={value} onChange={({ currentTarget }) => setValue(currentTarget.value)} />
        <Trouble error={put.error} />
        <Group>
          <Button disabled={!name.trim() || !value} loading={put.isPending} onClick={save}>
            Set
          </Button>
        </Group>
      </Stack>
    </section>
  );
}
