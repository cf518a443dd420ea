import { Button, Group, NativeSelect, Text, Textarea, Title } from '@mantine/core';
import { type FunctionShown, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code } from '../parts/basics.js';
import { milliseconds } from '../parts/format.js';
import { CheckErrors } from './checkErrors.js';
import { Lines } from './runs.js';

/** What a trial of each kind begins with. */
const FIRST: Record<FunctionShown['kind'], { label: string; text: string }> = {
  endpoint: { label: 'Request: method, params, query, body', text: '{ "params": {}, "query": {} }' },
  hook: { label: 'Event: action, before, record, sent', text: '{ "action": "create", "before": null, "record": {} }' },
  schedule: { label: 'Event: due', text: '{ "due": "2027-01-01T06:00:00.000Z" }' },
};

/** Runs what the editor holds on something made up; what it would write is shown and undone. */
export function Trial({ name, kind, files }: { name: string; kind: FunctionShown['kind']; files: Record<string, string> }) {
  const { params } = useEnvironment();
  const [given, setGiven] = useState(FIRST[kind].text);
  const runs = useCall(operations.functions.runs, { params: { ...params, name }, query: { limit: 20 } });
  const past = (runs.data?.items ?? []).filter(({ event }) => event !== null);
  const attempt = useChange(operations.functions.try, []);
  const read = readJson(given);
  const body = (kind === 'endpoint' ? { request: read, files } : { event: read, files }) as never;
  const run = () => attempt.mutate({ params: { ...params, name }, body });
  return (
    <section>
      <Title order={3}>Try it</Title>
      {past.length > 0 && (
        <NativeSelect
          label="As in a run"
          w={420}
          data={[
            { value: '', label: 'made up' },
            ...past.map(({ id, at, cause, outcome }) => ({ value: id, label: `${at.slice(11, 19)} ${cause}, ${outcome}` })),
          ]}
          onChange={({ currentTarget }) => {
            const event = past.find(({ id }) => id === currentTarget.value)?.event;
            if (event) setGiven(JSON.stringify(kind === 'endpoint' ? requestOf(event) : event, null, 2));
          }}
        />
      )}
      <Group align="flex-end">
        <Textarea
          label={FIRST[kind].label}
          autosize
          minRows={1}
          maxRows={10}
          style={{ flex: 1 }}
          classNames={{ input: 'mono' }}
          value={given}
          error={read === null ? 'This is not JSON' : undefined}
          onChange={({ currentTarget }) => setGiven(currentTarget.value)}
        />
        <Button variant="default" onClick={run} loading={attempt.isPending} disabled={read === null}>
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

/** The parts of a recorded request that a trial takes. */
const requestOf = ({ method, params, query, body }: Record<string, unknown>) => ({
  method,
  params,
  query,
  ...(body === null ? {} : { body }),
});

function readJson(text: string): object | null {
  try {
    return JSON.parse(text || '{}') as object;
  } catch {
    return null;
  }
}
