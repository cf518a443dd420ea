/** Websites whose origin was refused, with a button to allow it. */
import { Button, Group, Stack, Text, Title } from '@mantine/core';
import { type BlockedOrigin, operations } from '@orchard/contract';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Moment, Trouble } from './basics.js';
import { count } from './format.js';

/** A browser does not say why a website cannot connect; this does. */
export function BlockedOrigins({ items }: { items: BlockedOrigin[] }) {
  if (items.length === 0) return null;
  return (
    <section className="panel" aria-label="Blocked web origins">
      <Title order={2} className="care">
        {items.length === 1 ? 'A website is blocked' : `${items.length} websites are blocked`}
      </Title>
      <Text size="sm" mb="xs">
        They sent a client’s key from a web origin that the client does not list. If a site is yours, allow it.
      </Text>
      <Stack gap="xs">
        {items.map((item) => (
          <Group key={`${item.client} ${item.origin}`} gap="md">
            <Text className="mono">{item.origin}</Text>
            <Text size="sm" c="dimmed">
              with the key of {item.client}, {count(item.count)} {item.count === 1 ? 'call' : 'calls'}, the latest{' '}
              <Moment at={item.lastAt} />: {item.lastRoute}
            </Text>
            <AllowOrigin client={item.client} origin={item.origin} />
          </Group>
        ))}
      </Stack>
    </section>
  );
}

function AllowOrigin({ client, origin }: { client: string; origin: string }) {
  const { params } = useEnvironment();
  const allow = useChange(operations.clients.allowOrigin);
  return (
    <>
      <Button size="compact-sm" loading={allow.isPending} onClick={() => allow.mutate({ params: { ...params, client }, body: { origin } })}>
        Allow {origin}
      </Button>
      <Trouble error={allow.error} />
    </>
  );
}
