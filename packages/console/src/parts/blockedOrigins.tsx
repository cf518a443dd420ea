/** Websites that were turned away, with the button that lets them in. */
import { Button, Group, Stack, Text, Title } from '@mantine/core';
import { type BlockedOrigin, operations } from '@orchard/contract';
import { useChange } from '../api.js';
import { usePlace } from '../place.js';
import { count, Moment, Trouble } from './basics.js';

/** A website that cannot connect gets nothing useful from its browser; here is why. */
export function BlockedOrigins({ items }: { items: BlockedOrigin[] }) {
  if (items.length === 0) return null;
  return (
    <section className="panel" aria-label="Blocked web origins">
      <Title order={2} className="care">
        {items.length === 1 ? 'A website is turned away' : `${items.length} websites are turned away`}
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
  const { params } = usePlace();
  const allow = useChange(operations.clients.allowOrigin, ['origins.', 'clients.']);
  return (
    <>
      <Button size="compact-sm" loading={allow.isPending} onClick={() => allow.mutate({ params: { ...params, client }, body: { origin } })}>
        Allow {origin}
      </Button>
      <Trouble error={allow.error} />
    </>
  );
}
