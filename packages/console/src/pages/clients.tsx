/** Clients and their keys, with the rights of each key in words; websites whose origin was refused. */
import {
  Alert,
  Anchor,
  Badge,
  Button,
  Checkbox,
  Group,
  Modal,
  NativeSelect,
  Stack,
  TagsInput,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { CLIENT_KINDS, type Client, type Key, operations, SCOPE_SENTENCES, SCOPES } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { CopyText, Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { BlockedOrigins } from '../parts/blockedOrigins.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useEnvironment } from '../environment.js';
import { TableHead } from '../parts/tableHead.js';

type Kind = (typeof CLIENT_KINDS)[number];
const KIND_WORDS: Record<Kind, string> = {
  ios: 'iOS app',
  android: 'Android app',
  web: 'web app',
  desktop: 'desktop app',
  server: 'another backend',
};

export function ClientsPage() {
  const { params, base } = useEnvironment();
  const clients = useCall(operations.clients.list, { params });
  const blocked = useCall(operations.clients.blockedOrigins, { params });
  const [adding, add] = useDisclosure();
  return (
    <Stack gap="lg">
      <PageHead title="Clients and keys" hint="A client is one build that calls this environment; it owns keys">
        <FromCode calls={[coded(operations.clients.list, { params })]} />
        <Button onClick={add.open}>Add client</Button>
      </PageHead>
      <BlockedOrigins items={blocked.data?.items ?? []} />
      <Loaded of={clients}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No client yet">
              <Text>
                Add one for each build of your app: iOS, Android, web. It gets a client key to ship with. Another backend of yours is a
                client of the kind server; its keys are secret and carry scopes.
              </Text>
              <Group>
                <Button onClick={add.open}>Add client</Button>
              </Group>
            </Empty>
          ) : (
            <>
              {items.map((client) => (
                <OneClient key={client.name} client={client} />
              ))}
              <Text size="sm">
                Next: the{' '}
                <Anchor component={Link} to={`${base}/first-calls`}>
                  quick start
                </Anchor>{' '}
                with these keys filled in.
              </Text>
            </>
          )
        }
      </Loaded>
      <Modal opened={adding} onClose={add.close} title="Add client">
        <NewClient onCreated={add.close} />
      </Modal>
    </Stack>
  );
}

function OneClient({ client }: { client: Client }) {
  const { params } = useEnvironment();
  const [making, make] = useDisclosure();
  const change = useChange(operations.clients.patch);
  const profile = `/manage/v1/apps/${params.app}/environments/${params.environment}/clients/${client.name}/profile`;
  return (
    <section className="panel" aria-label={`Client ${client.name}`}>
      <Group justify="space-between">
        <Group gap="sm">
          <Title order={2}>{client.name}</Title>
          <Text c="dimmed">
            {KIND_WORDS[client.kind]}
            {client.packageIdentifier ? `, ${client.packageIdentifier}` : ''}
          </Text>
        </Group>
        <Group gap="xs">
          {client.kind !== 'server' && (
            <Button component="a" href={profile} download="orchard-client.json" variant="default" size="xs">
              Download client profile
            </Button>
          )}
          <Button variant="default" size="xs" onClick={make.open}>
            New key
          </Button>
        </Group>
      </Group>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead columns={['Key', 'Name', 'May do', 'Created', 'Last used', { hidden: 'Revoke' }]} />
          <tbody>
            {client.keys.map((key) => (
              <KeyRow key={key.id} client={client} apiKey={key} />
            ))}
          </tbody>
        </table>
      </div>
      {client.kind === 'web' && (
        <TagsInput
          mt="xs"
          maw={640}
          label="Allowed web origins"
          description="Scheme, host and port, such as https://hiker.quillfell.example; pages from other origins are refused"
          value={client.origins}
          disabled={change.isPending}
          onChange={(origins) => change.mutate({ params: { ...params, client: client.name }, body: { origins } })}
        />
      )}
      <Trouble error={change.error} />
      <Modal opened={making} onClose={make.close} title={`New key for ${client.name}`}>
        <NewKey client={client} onDone={make.close} />
      </Modal>
    </section>
  );
}

function KeyRow({ client, apiKey }: { client: Client; apiKey: Key }) {
  const { params } = useEnvironment();
  const revoke = useChange(operations.clients.revokeKey);
  const rights =
    apiKey.kind === 'client'
      ? 'what the access rules allow'
      : apiKey.scopes.map((scope) => (
          <div key={scope}>
            <code>{scope}</code> <span className="hint">{SCOPE_SENTENCES[scope]}</span>
          </div>
        ));
  return (
    <tr>
      <td>
        <Group gap={4} wrap="nowrap">
          <span className="mono">{apiKey.key ?? `skey-…-${apiKey.hint}`}</span>
          {apiKey.key && !apiKey.revokedAt && <CopyText text={apiKey.key} label={`Copy the key of ${client.name}`} />}
        </Group>
      </td>
      <td>{apiKey.name}</td>
      <td className="whole">{rights}</td>
      <td>
        <Moment at={apiKey.createdAt} />
      </td>
      <td>
        <Moment at={apiKey.lastUsedAt} />
      </td>
      <td className="right">
        {apiKey.revokedAt ? (
          <Badge variant="outline" color="gray" c="inherit">
            revoked
          </Badge>
        ) : (
          <ConfirmedButton
            size="compact-xs"
            label="Revoke"
            verb="Revoke"
            question="Revoke this key?"
            consequence={`Everything that still uses …${apiKey.hint} is refused from now on. This cannot be undone.`}
            change={revoke}
            onConfirm={(done) => revoke.mutate({ params: { ...params, client: client.name, key: apiKey.id } }, { onSuccess: done })}
          />
        )}
      </td>
    </tr>
  );
}

function NewKey({ client, onDone }: { client: Client; onDone: () => void }) {
  const { params } = useEnvironment();
  const [created, setCreated] = useState<Key | null>(null);
  const create = useOperationForm(operations.clients.createKey, {
    initial: { name: '', scopes: [] as Key['scopes'] },
    input: ({ name, scopes }) => ({
      params: { ...params, client: client.name },
      body: { name, ...(client.kind === 'server' ? { scopes } : {}) },
    }),
    onDone: setCreated,
  });
  if (created) return <CreatedKey of={created} onDone={onDone} />;
  return (
    <FormOf of={create} verb="Create key">
      <TextInput data-autofocus label="What it is for" required {...create.form.getInputProps('name')} />
      {client.kind === 'server' && (
        <Checkbox.Group label="May do" {...create.form.getInputProps('scopes')}>
          <Stack gap={6} mt={4}>
            {SCOPES.map((scope) => (
              <Checkbox key={scope} value={scope} label={scope} description={SCOPE_SENTENCES[scope]} />
            ))}
          </Stack>
        </Checkbox.Group>
      )}
    </FormOf>
  );
}

function CreatedKey({ of: { key, kind }, onDone }: { of: Key; onDone: () => void }) {
  return (
    <Stack>
      <Alert color="viridian" title={kind === 'server' ? 'Copy it now: it is not shown again' : 'The key is created'}>
        <Group gap={4}>
          <span className="mono">{key}</span>
          <CopyText text={key ?? ''} label="Copy the new key" />
        </Group>
      </Alert>
      <Group justify="flex-end">
        <Button onClick={onDone}>Done</Button>
      </Group>
    </Stack>
  );
}

function NewClient({ onCreated }: { onCreated: () => void }) {
  const { params } = useEnvironment();
  const create = useOperationForm(operations.clients.create, {
    initial: { name: '', kind: 'ios' as Kind, packageIdentifier: '', origins: [] as string[] },
    input: ({ name, kind, packageIdentifier, origins }) => ({
      params,
      body: {
        name,
        kind,
        ...(runsOnPhone(kind) && packageIdentifier ? { packageIdentifier } : {}),
        ...(kind === 'web' ? { origins } : {}),
      },
    }),
    onDone: onCreated,
  });
  const { getInputProps, values } = create.form;
  return (
    <FormOf of={create} verb="Add client">
      <NativeSelect label="Kind" data={CLIENT_KINDS.map((value) => ({ value, label: KIND_WORDS[value] }))} {...getInputProps('kind')} />
      <TextInput data-autofocus label="Name" description="Lower-case letters, digits and -" required {...getInputProps('name')} />
      {runsOnPhone(values.kind) && (
        <TextInput label="Package identifier" placeholder="example.quillfell.hiker" {...getInputProps('packageIdentifier')} />
      )}
      {values.kind === 'web' && (
        <TagsInput label="Allowed web origins" placeholder="https://hiker.quillfell.example" {...getInputProps('origins')} />
      )}
    </FormOf>
  );
}

const runsOnPhone = (kind: Kind) => kind === 'ios' || kind === 'android';
