/** From nothing to an app that stores, registers and counts: steps per platform, with the real address and key, ticked as what they send arrives. */
import { Anchor, Button, Group, NativeSelect, Stack, Tabs, Text, Title } from '@mantine/core';
import { addressOf, type Client, operations } from '@orchard/contract';
import { STARTER_ORIGIN } from '@orchard/core';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Code, Empty, Loaded, PageHead, Trouble } from '../parts/basics.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { type Arrival, firstCalls, PLATFORMS } from './firstCallsCode.js';

const keyOf = (client: Client | undefined) => client?.keys.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;

export function FirstCallsPage() {
  const { params, base } = useEnvironment();
  const clients = useCall(operations.clients.list, { params });
  const [platform, setPlatform] = useAddressState('platform', 'browser');
  const [chosen, setChosen] = useAddressState('client');
  const arrived = useArrivals();
  return (
    <>
      <PageHead title="First calls" hint="Each step is ticked when what it sends has arrived" />
      <Loaded of={clients}>
        {({ items }) => {
          const usable = items.filter((client) => keyOf(client));
          const client =
            usable.find(({ name }) => name === chosen) ??
            usable.find(
              ({ kind }) =>
                kind === (platform === 'browser' ? 'web' : platform === 'swift' ? 'ios' : platform === 'kotlin' ? 'android' : kind),
            ) ??
            usable[0];
          const key = keyOf(client);
          if (!client || !key)
            return (
              <Empty title="Add a client first">
                <Text>
                  A call needs the key of a client.{' '}
                  <Anchor component={Link} to={`${base}/setup`}>
                    Add one under Clients and keys
                  </Anchor>
                  .
                </Text>
              </Empty>
            );
          return (
            <Stack gap="md" maw={860}>
              <NativeSelect
                label="Client whose key is filled in"
                maw={320}
                value={client.name}
                onChange={({ currentTarget }) => setChosen(currentTarget.value)}
                data={usable.map(({ name }) => name)}
              />
              <Tabs value={platform} onChange={setPlatform} keepMounted={false}>
                <Tabs.List mb="md">
                  {PLATFORMS.map(({ id, label }) => (
                    <Tabs.Tab key={id} value={id}>
                      {label}
                    </Tabs.Tab>
                  ))}
                </Tabs.List>
                {PLATFORMS.map(({ id }) => (
                  <Tabs.Panel key={id} value={id}>
                    {id === 'browser' && <Starters client={client} />}
                    {id === 'node' && <Starters client={client} node />}
                    {id === 'browser' && (
                      <Text size="sm" mb="sm">
                        {client.kind === 'web'
                          ? `Allowed origins: ${client.origins.join(', ') || 'none yet'}. `
                          : `${client.name} is not a web client, so browsers are refused. `}
                        An origin that is refused shows up on the Overview with a button that allows it.
                      </Text>
                    )}
                    <ol className="steps">
                      {firstCalls(id, window.location.origin, key).map(({ title, code, done }) => (
                        <li key={title}>
                          <Title order={2} mb={4}>
                            {title} <Tick has={arrived[done]} />
                          </Title>
                          <Code label={`Copy: ${title}`}>{code}</Code>
                        </li>
                      ))}
                    </ol>
                  </Tabs.Panel>
                ))}
              </Tabs>
            </Stack>
          );
        }}
      </Loaded>
    </>
  );
}

const EVERY = { refetchInterval: 3_000 };

/** What has arrived in the environment so far; asked for until everything has. */
function useArrivals(): Record<Arrival, boolean> {
  const { params } = useEnvironment();
  const calls = useCall(operations.telemetry.requests, { params, query: { limit: '1', filter: "route LIKE '/app/%'" } }, EVERY);
  const users = useCall(operations.users.list, { params, query: { limit: '1' } }, EVERY);
  const collections = useCall(operations.collections.list, { params }, EVERY);
  const devices = useCall(operations.devices.list, { params, query: { limit: '1' } }, EVERY);
  const events = useCall(operations.events.latest, { params, query: { limit: '1' } }, EVERY);
  const some = (list: { items: unknown[] } | undefined) => (list?.items.length ?? 0) > 0;
  return {
    call: some(calls.data),
    user: some(users.data),
    record: collections.data?.items.some(({ records }) => records > 0) ?? false,
    device: some(devices.data),
    event: some(events.data),
  };
}

function Tick({ has }: { has: boolean }) {
  return has ? (
    <Text component="span" size="sm" fw={600} c="var(--leaf)" role="status">
      ✓ arrived
    </Text>
  ) : (
    <Text component="span" size="sm" c="dimmed">
      waiting
    </Text>
  );
}

/** A program that runs as it is. That of a web app needs its origin allowed. */
function Starters({ client, node = false }: { client: Client; node?: boolean }) {
  const { params } = useEnvironment();
  const allow = useChange(operations.clients.patch, [operations.clients]);
  const starter = node ? 'node' : 'web';
  const isAllowed = node || client.kind !== 'web' || client.origins.includes(STARTER_ORIGIN);
  const address = addressOf(operations.sync.starter, { params: { ...params, starter }, query: { client: client.name } });
  return (
    <Group mb="sm" gap="sm">
      <Button component="a" href={address} download variant="default" disabled={!isAllowed}>
        Download a {node ? 'program' : 'web app'} that runs as it is
      </Button>
      {!isAllowed && (
        <Button
          variant="light"
          loading={allow.isPending}
          onClick={() =>
            allow.mutate({ params: { ...params, client: client.name }, body: { origins: [...client.origins, STARTER_ORIGIN] } })
          }
        >
          Allow {STARTER_ORIGIN} first
        </Button>
      )}
      <Trouble error={allow.error} />
    </Group>
  );
}
