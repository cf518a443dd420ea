/** Three steps from nothing to a stored record, per platform, with the real address and key. */
import { Anchor, NativeSelect, Stack, Tabs, Text, Title } from '@mantine/core';
import { type Client, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Code, Empty, Loaded, PageHead } from '../parts/basics.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { PLATFORMS, quickStart } from './quickStartCode.js';

const keyOf = (client: Client | undefined) => client?.keys.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;

export function QuickStartPage() {
  const { params, base } = useEnvironment();
  const clients = useCall(operations.clients.list, { params });
  const [platform, setPlatform] = useAddressState('platform', 'browser');
  const [chosen, setChosen] = useAddressState('client');
  return (
    <>
      <PageHead title="Quick start" hint="Three steps: create an account, store a record, read it back" />
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
                    {id === 'browser' && (
                      <Text size="sm" mb="sm">
                        {client.kind === 'web'
                          ? `Allowed origins: ${client.origins.join(', ') || 'none yet'}. `
                          : `${client.name} is not a web client, so browsers are refused. `}
                        An origin that is refused shows up on the Overview with a button that allows it.
                      </Text>
                    )}
                    <ol className="steps">
                      {quickStart(id, window.location.origin, key).map(({ title, code }) => (
                        <li key={title}>
                          <Title order={2} mb={4}>
                            {title}
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
