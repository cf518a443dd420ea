/** Providers outside at which people sign in: what is set up, whether each can be used, and a form for another one. */
import { Button, Group, Modal, PasswordInput, Stack, TagsInput, Text, TextInput } from '@mantine/core';
import { operations, type ReplyOf, type SignInWayDocument } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.accounts;
type Checked = ReplyOf<typeof own.checkWay>;

export function SignInWays() {
  const { params, details } = useEnvironment();
  const ways = useCall(own.ways, { params });
  const [edited, setEdited] = useState<SignInWayDocument | 'new' | null>(null);
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  return (
    <Stack>
      <Loaded of={ways}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No provider outside">
              <Text>
                People may sign in at a provider of OpenID Connect. Its button stands on the sign-in page of this environment, and the app
                gets one token of ours, whoever proved who they are.
              </Text>
            </Empty>
          ) : (
            items.map((way) => <Way key={way.name} of={way} onEdit={mayChange ? () => setEdited(way) : null} />)
          )
        }
      </Loaded>
      {mayChange && (
        <Group>
          <Button variant="default" leftSection={<IconPlus size={16} aria-hidden />} onClick={() => setEdited('new')}>
            Add a provider
          </Button>
        </Group>
      )}
      <Modal opened={edited !== null} onClose={() => setEdited(null)} title={edited === 'new' ? 'Add a provider' : 'Change the provider'}>
        {edited && <WayForm of={edited === 'new' ? null : edited} onDone={() => setEdited(null)} />}
      </Modal>
    </Stack>
  );
}

function Way({ of: way, onEdit }: { of: SignInWayDocument; onEdit: (() => void) | null }) {
  const { params, details } = useEnvironment();
  const at = { ...params, way: way.name };
  const [checked, setChecked] = useState<Checked | null>(null);
  const check = useChange(own.checkWay, []);
  const remove = useChange(own.removeWay);
  return (
    <section className="panel" aria-label={way.title}>
      <Group justify="space-between" mb={6}>
        <div>
          <b>{way.title}</b>{' '}
          <Text span size="sm" c="dimmed">
            {way.name}, {way.issuer}, as {way.clientId}
            {way.clients.length > 0 && `, for ${way.clients.join(', ')}`}
          </Text>
        </div>
        <Group gap="xs">
          {details?.role !== 'viewer' && (
            <Button
              size="compact-sm"
              variant="default"
              loading={check.isPending}
              onClick={() => check.mutate({ params: at }, { onSuccess: setChecked })}
            >
              Check
            </Button>
          )}
          {onEdit && (
            <>
              <Button size="compact-sm" variant="default" onClick={onEdit}>
                Change
              </Button>
              <ConfirmedButton
                label="Take away"
                verb="Take away"
                question={`Take ${way.title} away?`}
                consequence="Nobody signs in there any more. The accounts of those who came by it stay."
                change={remove}
                onConfirm={() => remove.mutate({ params: at })}
              />
            </>
          )}
        </Group>
      </Group>
      <Text size="sm">To be listed at the provider as a redirect address:</Text>
      <Code>{way.redirectAddress}</Code>
      <Trouble error={check.error} />
      {checked && (
        <ul style={{ margin: '0.5rem 0 0', paddingLeft: '1.1rem' }} aria-live="polite">
          {checked.steps.map(({ what, ok, text }) => (
            <li key={what} className={ok ? undefined : 'care'}>
              {what}: {text}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function WayForm({ of, onDone }: { of: SignInWayDocument | null; onDone: () => void }) {
  const { params } = useEnvironment();
  const form = useOperationForm(own.putWay, {
    initial: {
      way: of?.name ?? '',
      title: of?.title ?? '',
      issuer: of?.issuer ?? '',
      clientId: of?.clientId ?? '',
      secret: '',
      scopes: of?.scopes ?? ['openid', 'email', 'profile'],
      clients: of?.clients ?? [],
    },
    input: ({ way, secret, ...body }) => ({ params: { ...params, way }, body: { ...body, ...(secret ? { secret } : {}) } }),
    onDone,
  });
  const { getInputProps } = form.form;
  return (
    <FormOf of={form} verb="Save">
      <TextInput label="Name" placeholder="ridge" required disabled={of !== null} {...getInputProps('way')} />
      <TextInput label="Title" description="As its button says" placeholder="Sign in at the ridge" required {...getInputProps('title')} />
      <TextInput label="Issuer" placeholder="https://id.ridge.example" required {...getInputProps('issuer')} />
      <TextInput label="Client id" description="As the provider gave it" required {...getInputProps('clientId')} />
      <PasswordInput
        label="Secret"
        description={of?.hasSecret ? 'Empty: the one before stays' : 'Where the provider gave one'}
        autoComplete="off"
        {...getInputProps('secret')}
      />
      <TagsInput label="Scopes" {...getInputProps('scopes')} />
      <TagsInput label="Clients that may use it" description="None: all" {...getInputProps('clients')} />
    </FormOf>
  );
}
