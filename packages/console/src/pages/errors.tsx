/** Unhandled errors of apps by likely cause. */
import { Anchor, Badge, Button, Group, Stack, Text, TextInput } from '@mantine/core';
import { type ErrorGroup, operations } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';

const own = operations.log;

export function ErrorsPage() {
  return (
    <ListPage
      title="Errors"
      hint="Unhandled errors of apps, gathered by kind and place"
      operation={own.errors}
      label="Errors"
      initialSort="-lastAt"
      idOf={({ id }) => id}
      example="count > 10"
      presets={[
        { label: 'Not settled', filter: 'settledAt IS NULL' },
        { label: 'More than ten times', filter: 'count > 10' },
      ]}
      empty={
        <Empty title="No error yet">
          <Text>Apps bring unhandled errors with the call that brings log entries, as `error` of an entry:</Text>
          <Code>{`{"entries": [{"level": "error", "text": "", "error": {"name": "TypeError", "message": "…", "stack": "…", "version": "2.4.1"}}]}`}</Code>
        </Empty>
      }
      columns={[
        {
          name: 'name',
          label: 'Error',
          render: ({ name, message }) => (
            <span title={message}>
              {name}: {message}
            </span>
          ),
        },
        { name: 'place', label: 'Place', render: ({ place }) => <span className="mono">{place}</span> },
        { name: 'count', label: 'Times', sortable: true, right: true, render: (one) => <span className="mono">{count(one.count)}</span> },
        { name: 'people', label: 'People', right: true, render: ({ people }) => <span className="mono">{count(people)}</span> },
        { name: 'versions', label: 'Versions', render: ({ versions }) => versions.join(', ') },
        { name: 'lastAt', label: 'Last seen', sortable: true, render: ({ lastAt }) => <Moment at={lastAt} /> },
        { name: 'settledAt', label: 'State', render: (one) => <State of={one} /> },
      ]}
      drawer={{
        title: 'Error',
        render: (id, _close, items) => {
          const found = items.find((one) => one.id === id);
          return found && <OneError of={found} />;
        },
      }}
    />
  );
}

function State({ of: { state, settledIn } }: { of: ErrorGroup }) {
  if (state === 'open') return null;
  return (
    <Badge
      size="sm"
      variant="outline"
      color={state === 'settled' ? 'gray' : 'persimmon'}
      c={state === 'settled' ? 'inherit' : 'var(--care)'}
    >
      {state === 'settled' && settledIn ? `settled in ${settledIn}` : state}
    </Badge>
  );
}

function OneError({ of }: { of: ErrorGroup }) {
  const { params, base, details } = useEnvironment();
  const [version, setVersion] = useState('');
  const settle = useChange(own.settle);
  return (
    <Stack>
      <Text fw={600}>
        {of.name}: {of.message}
      </Text>
      <Facts
        of={[
          [
            'Place',
            <span key="p" className="mono">
              {of.place || 'unknown: it has no stack'}
            </span>,
          ],
          ['Times', count(of.count)],
          ['People', count(of.people)],
          ['Versions', of.versions.join(', ') || null],
          ['First seen', <Moment key="f" at={of.firstAt} />],
          ['Last seen', <Moment key="l" at={of.lastAt} />],
          ['State', of.state],
        ]}
      />
      <Anchor component={Link} to={`${base}/log?filter=${encodeURIComponent(`error = '${of.id}'`)}`}>
        Each time, with its stack
      </Anchor>
      <Trouble error={settle.error} />
      {of.state !== 'settled' && details?.role !== 'viewer' && (
        <Group align="flex-end">
          <TextInput
            label="Settled in version"
            placeholder="any"
            value={version}
            onChange={({ currentTarget }) => setVersion(currentTarget.value)}
          />
          <Button
            variant="default"
            loading={settle.isPending}
            onClick={() => settle.mutate({ params: { ...params, error: of.id }, body: version ? { version } : {} })}
          >
            Settle
          </Button>
        </Group>
      )}
    </Stack>
  );
}
