import { Button, Group, Text, TextInput, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code } from '../parts/basics.js';
import { milliseconds } from '../parts/format.js';
import { CheckErrors } from './checkErrors.js';
import { Lines } from './runs.js';

/** Runs what the editor holds on a made-up request; what it would write is shown and undone. */
export function Trial({ name, files }: { name: string; files: Record<string, string> }) {
  const { params } = useEnvironment();
  const [request, setRequest] = useState('{ "query": {} }');
  const attempt = useChange(operations.functions.try, []);
  const run = () => attempt.mutate({ params: { ...params, name }, body: { request: readRequest(request) as never, files } });
  return (
    <section>
      <Title order={3}>Try it</Title>
      <Group align="flex-end">
        <TextInput
          label="Request"
          description="method, params, query, body"
          style={{ flex: 1 }}
          classNames={{ input: 'mono' }}
          value={request}
          onChange={({ currentTarget }) => setRequest(currentTarget.value)}
        />
        <Button variant="default" onClick={run} loading={attempt.isPending} disabled={readRequest(request) === null}>
          Try
        </Button>
      </Group>
      <CheckErrors error={attempt.error} />
      {attempt.data && (
        <div role="status">
          <Text size="sm" fw={600} className={attempt.data.outcome === 'answered' ? undefined : 'care'}>
            {attempt.data.outcome}, {milliseconds(attempt.data.durationMs)}
          </Text>
          {attempt.data.error && <Text size="sm">{attempt.data.error}</Text>}
          <Code>{JSON.stringify(attempt.data.answer, null, 2)}</Code>
          {attempt.data.changes.length > 0 && (
            <>
              <Text size="sm">It would have written, and did not:</Text>
              <Code>{JSON.stringify(attempt.data.changes, null, 2)}</Code>
            </>
          )}
          <Lines run={attempt.data} />
        </div>
      )}
    </section>
  );
}

function readRequest(text: string): object | null {
  try {
    return JSON.parse(text || '{}') as object;
  } catch {
    return null;
  }
}
