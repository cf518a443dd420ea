/** Members sign in at providers outside: the buttons of the sign-in page, and what is set up, for owners. */
import { Button, Modal, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type MemberEntryWay, operations } from '@orchard/contract';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { keepCsrf, useCall, useChange } from '../api.js';
import { Code, Loaded, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { MemberWayForm } from './wayForm.js';

const own = operations.memberEntry;
const EXAMPLE = `orchard member-entry set ridge '{"way": {…}, "groups": {…}}'`;

/** Why the provider led back here. */
export function RefusedByProvider() {
  const [search] = useSearchParams();
  const words = search.get('refused');
  return words ? (
    <Text className="care" role="alert">
      {words}
    </Text>
  ) : null;
}

export function ProviderButtons() {
  const offered = useCall(own.offered, {});
  const [directory, setDirectory] = useState<{ name: string; title: string } | null>(null);
  const items = offered.data?.items ?? [];
  if (directory) return <DirectoryForm of={directory} onBack={() => setDirectory(null)} />;
  return (
    <>
      {items.map(({ name, title, isDirectory }) =>
        isDirectory ? (
          <Button key={name} variant="default" onClick={() => setDirectory({ name, title })}>
            {title}
          </Button>
        ) : (
          <Button key={name} variant="default" component="a" href={`/member-sign-in/ways/${name}`}>
            {title}
          </Button>
        ),
      )}
    </>
  );
}

function DirectoryForm({ of: { name, title }, onBack }: { of: { name: string; title: string }; onBack: () => void }) {
  const enter = useOperationForm(own.atDirectory, {
    initial: { user: '', password: '', code: '' },
    input: ({ code, ...rest }) => ({ body: { way: name, ...rest, ...(code ? { code } : {}) } }),
    onDone: ({ csrf }) => {
      keepCsrf(csrf);
      location.assign('/');
    },
    stale: [],
  });
  const { getInputProps } = enter.form;
  return (
    <section className="panel" aria-label={title}>
      <Title order={2} mb={4}>
        {title}
      </Title>
      <FormOf of={enter} verb="Sign in">
        <TextInput label="User name" required autoComplete="username" {...getInputProps('user')} />
        <PasswordInput label="Password" required autoComplete="current-password" {...getInputProps('password')} />
        <TextInput
          label="Code of the authenticator app"
          description="If you have one"
          autoComplete="one-time-code"
          {...getInputProps('code')}
        />
      </FormOf>
      <Button variant="subtle" onClick={onBack}>
        Back
      </Button>
    </section>
  );
}

/** For owners: at which providers members sign in, and which groups give roles. */
export function MemberEntryWays() {
  const ways = useCall(own.list, {});
  const check = useChange(own.check, []);
  const remove = useChange(own.remove);
  const [edited, setEdited] = useState<MemberEntryWay | 'new' | null>(null);
  return (
    <section className="panel" aria-label="Sign-in at providers">
      <Title order={2} mb={4}>
        Sign-in at providers
      </Title>
      <Loaded of={ways}>
        {({ items }) =>
          items.length === 0 ? (
            <>
              <Text size="sm">
                Members sign in here. They may sign in at a provider of yours, with roles by its groups, too. By command:
              </Text>
              <Code>{EXAMPLE}</Code>
            </>
          ) : (
            <Stack gap="xs">
              {items.map((one) => {
                const { way, groups } = one;
                return (
                  <div key={way.name}>
                    <b>{way.title}</b>{' '}
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Check ${way.title}`}
                      onClick={() => check.mutate({ params: { way: way.name }, body: {} })}
                    >
                      Check
                    </Button>{' '}
                    <Button size="compact-xs" variant="default" aria-label={`Change ${way.title}`} onClick={() => setEdited(one)}>
                      Change
                    </Button>{' '}
                    <ConfirmedButton
                      size="compact-xs"
                      label="Remove"
                      verb="Remove"
                      question={`Remove ${way.title}?`}
                      consequence="Members who sign in there cannot any more; they stay members."
                      change={remove}
                      onConfirm={(done) => remove.mutate({ params: { way: way.name } }, { onSuccess: done })}
                    />
                    <Text size="sm" c="dimmed">
                      {Object.entries(groups)
                        .map(
                          ([group, roles]) =>
                            `${group}: ${roles.map(({ app, environment, role }) => `${role} of ${app}/${environment}`).join(', ')}`,
                        )
                        .join('; ') || 'No group gives a role: members are invited.'}
                    </Text>
                    {way.redirectAddress && <Code>{way.redirectAddress}</Code>}
                  </div>
                );
              })}
              <Trouble error={check.error} />
              {check.data?.steps.map(({ what, ok, text }) => (
                <Text size="sm" key={what} className={ok ? undefined : 'care'}>
                  {what}: {text}
                </Text>
              ))}
            </Stack>
          )
        }
      </Loaded>
      <Button mt="sm" variant="default" onClick={() => setEdited('new')}>
        Add a provider of members
      </Button>
      <Modal
        opened={edited !== null}
        onClose={() => setEdited(null)}
        title={edited === 'new' ? 'Add a provider of members' : 'Change the provider'}
      >
        {edited && <MemberWayForm of={edited === 'new' ? null : edited} onDone={() => setEdited(null)} />}
      </Modal>
    </section>
  );
}
