import { Button, Group, NativeSelect, Text, TextInput, Title } from '@mantine/core';
import { operations, UPSTREAM_METHODS, type Upstream, type UpstreamMethod } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Trouble } from '../parts/basics.js';
import { counted, milliseconds } from '../parts/format.js';

/** Calls an upstream as a function would. */
export function TryUpstream({ upstream }: { upstream: Upstream }) {
  const { params } = useEnvironment();
  const [method, setMethod] = useState<UpstreamMethod>('GET');
  const [path, setPath] = useState(upstream.operations[0]?.path ?? '/');
  const attempt = useChange(operations.upstreams.try, [operations.upstreams.list]);
  const { data } = attempt;
  return (
    <section>
      <Title order={3}>Try it</Title>
      <Group align="flex-end">
        <NativeSelect
          label="Method"
          w={110}
          data={[...UPSTREAM_METHODS]}
          value={method}
          onChange={({ currentTarget }) => setMethod(currentTarget.value as UpstreamMethod)}
        />
        <TextInput
          label="Path"
          classNames={{ input: 'mono' }}
          style={{ flex: 1 }}
          value={path}
          onChange={({ currentTarget }) => setPath(currentTarget.value)}
        />
        <Button
          variant="default"
          loading={attempt.isPending}
          onClick={() => attempt.mutate({ params: { ...params, upstream: upstream.name }, body: { method, path, query: {}, headers: {} } })}
        >
          Try
        </Button>
      </Group>
      <Trouble error={attempt.error} />
      {data && (
        <div role="status">
          <Text size="sm" fw={600} className={data.status < 400 ? undefined : 'care'}>
            {data.status} after {milliseconds(data.durationMs)}
            {data.cached ? ', from what was kept' : data.tries > 1 ? `, ${counted(data.tries, 'try')}` : ''}
          </Text>
          <Code>{typeof data.body === 'string' ? data.body : JSON.stringify(data.body, null, 2)}</Code>
        </div>
      )}
    </section>
  );
}
