/** Automation tokens: what scripts call the API with. */
import { Button, Group, Modal, NumberInput, Stack, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type AutomationToken, operations, type Role, TOKEN_DAYS } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Empty, Facts, Moment } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { roleOf } from '../parts/role.js';
import { stateOf } from '../parts/tokenState.js';
import { RoleChoice } from '../parts/roleChoice.js';

const rolesOf = ({ roles }: AutomationToken): string =>
  roles.map(({ app, environment, role }) => `${app}/${environment} ${role}`).join(', ');

export function TokensPage() {
  return (
    <ListPage
      title="Automation"
      hint="Tokens with which scripts call the API, each with a role and an end"
      operation={operations.tokens.list}
      label="Automation tokens"
      idOf={({ id }) => id}
      empty={
        <Empty title="No automation tokens">
          <Text>A token lets a script call the API for the team, such as one that sets up an environment or reads the audit.</Text>
        </Empty>
      }
      columns={[
        { name: 'name', label: 'Name', render: ({ name }) => name },
        { name: 'roles', label: 'Roles', render: rolesOf },
        { name: 'state', label: 'State', render: (token) => <StateText of={token} /> },
        { name: 'expiresAt', label: 'Ends', render: ({ expiresAt }) => <Moment at={expiresAt} /> },
        { name: 'lastUsedAt', label: 'Last used', render: ({ lastUsedAt }) => <Moment at={lastUsedAt} /> },
        { name: 'createdBy', label: 'Created by', render: ({ createdBy }) => createdBy.name },
      ]}
      drawer={{
        title: 'Automation token',
        render: (id, close, items) => {
          const token = items.find((one) => one.id === id);
          return token && <OneToken token={token} onGone={close} />;
        },
      }}
    >
      <NewToken />
    </ListPage>
  );
}

function StateText({ of }: { of: AutomationToken }) {
  const state = stateOf(of, Date.now());
  return <span className={state === 'expired' ? 'care' : undefined}>{state}</span>;
}

function OneToken({ token, onGone }: { token: AutomationToken; onGone: () => void }) {
  const revoke = useChange(operations.tokens.revoke);
  return (
    <Stack>
      <Facts
        of={[
          ['Name', token.name],
          [
            'Ends with',
            <span key="h" className="mono">
              …{token.hint}
            </span>,
          ],
          ['State', <StateText key="s" of={token} />],
          ['Roles', rolesOf(token)],
          ['Created', <Moment key="c" at={token.createdAt} />],
          ['Created by', token.createdBy.name],
          ['Valid until', <Moment key="e" at={token.expiresAt} />],
          ['Last used', <Moment key="l" at={token.lastUsedAt} />],
          ['Last used from', token.lastUsedFrom],
        ]}
      />
      {stateOf(token, Date.now()) === 'valid' && (
        <Group>
          <ConfirmedButton
            label="Revoke"
            verb="Revoke"
            question={`Revoke ${token.name}?`}
            consequence="Its calls are refused and its streams end at once. This cannot be undone."
            change={revoke}
            onConfirm={() => revoke.mutate({ params: { token: token.id } }, { onSuccess: onGone })}
          />
        </Group>
      )}
    </Stack>
  );
}

function NewToken() {
  const [opened, { open, close }] = useDisclosure();
  return (
    <>
      <Button onClick={open}>Create token</Button>
      <Modal opened={opened} onClose={close} title="Create token" closeOnClickOutside={false}>
        {opened && <NewTokenForm onDone={close} />}
      </Modal>
    </>
  );
}

function NewTokenForm({ onDone }: { onDone: () => void }) {
  const { params } = useEnvironment();
  const apps = useCall(operations.apps.list, {});
  const [made, setMade] = useState<string | null>(null);
  const create = useOperationForm(operations.tokens.create, {
    initial: { name: '', app: params.app, environment: params.environment, role: 'developer' as Role, days: 90 },
    input: ({ name, days, ...chosen }) => ({
      body: { name, days, roles: [roleOf(chosen)] },
    }),
    onDone: ({ token }) => setMade(token),
  });
  if (made) return <Made token={made} onDone={onDone} />;
  const { getInputProps } = create.form;
  const all = apps.data?.items ?? [];
  return (
    <FormOf of={create} verb="Create token">
      <TextInput label="Name" description="What it is for, such as nightly setup" required data-autofocus {...getInputProps('name')} />
      <RoleChoice form={create.form} apps={all} />
      <NumberInput label="Valid for days" min={1} max={TOKEN_DAYS} w={160} {...getInputProps('days')} />
    </FormOf>
  );
}

function Made({ token, onDone }: { token: string; onDone: () => void }) {
  return (
    <Stack>
      <Text>The token is shown this once. Keep it where your scripts keep their secrets.</Text>
      <Code label="Copy the token">{token}</Code>
      <Text size="sm" c="dimmed">
        The command takes it from its environment:
      </Text>
      <Code>{`export ORCHARD_ADDRESS=${location.origin}\nexport ORCHARD_TOKEN=…`}</Code>
      <Group justify="flex-end">
        <Button onClick={onDone}>Done</Button>
      </Group>
    </Stack>
  );
}
