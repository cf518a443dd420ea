/** “Try as”: whether a rule allows a user an action on a record, and which part of it decides. */
import { Button, Group, NativeSelect, Select, Stack, Text, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { type Collection, operations } from '@orchard/contract';
import { type Explained, type JsonObject, RECORD_ACTIONS, type RecordAction } from '@orchard/core';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { useEnvironment } from '../environment.js';

type Tried = RecordAction | 'see' | 'set';
type Trial = Pick<ReturnType<typeof useChange<(typeof operations.collections)['tryRule']>>, 'data' | 'error' | 'isPending'>;

/** @param rule in place of the current rule; `record` fixes the record; `field` is the one to see or set */
export function TryRecordRule({
  collection,
  field,
  ...rest
}: {
  collection: Collection;
  record?: string;
  action?: Tried;
  field?: string;
  rule?: string;
}) {
  const { params } = useEnvironment();
  const trial = useChange(operations.collections.tryRule, []);
  return (
    <TryRule
      of="the record"
      example='id, or {"state":"open"}'
      trial={trial}
      onTry={(body) =>
        trial.mutate({
          params: { ...params, collection: collection.name },
          body: { ...body, record: body.record as never, ...(field ? { field } : {}) },
        })
      }
      {...rest}
    />
  );
}

/** @param of what it is tried on @param trial the call that tries it */
export function TryRule({
  of,
  example,
  trial,
  onTry,
  record,
  action: fixed,
  rule,
}: {
  of: string;
  example: string;
  trial: Trial;
  onTry: (asked: { action: Tried; user: string | null; record: string | JsonObject; rule?: string }) => void;
  record?: string;
  action?: Tried;
  rule?: string;
}) {
  const { params } = useEnvironment();
  const [action, setAction] = useState<RecordAction>('read');
  const [user, setUser] = useState<string | null>(null);
  const [search, setSearch] = useState('');
  const [debounced] = useDebouncedValue(search, 250);
  const [subject, setSubject] = useState('');
  const users = useCall(operations.users.list, {
    params,
    query: {
      limit: 20,
      ...(debounced && !debounced.includes(' ') ? { filter: `CASEI(email) LIKE CASEI('${debounced.replaceAll("'", "''")}%')` } : {}),
    },
  });
  const tried = fixed ?? action;
  const given = record ?? subject.trim();
  function run(): void {
    let body: string | JsonObject = given;
    if (given.startsWith('{')) {
      try {
        body = JSON.parse(given) as JsonObject;
      } catch {
        body = given;
      }
    }
    onTry({ action: tried, user, record: body, ...(rule ? { rule } : {}) });
  }
  return (
    <Stack gap="xs">
      <Group align="flex-end" gap="xs">
        <Select
          label="Try as"
          placeholder="no one signed in"
          clearable
          searchable
          value={user}
          onChange={setUser}
          onSearchChange={setSearch}
          filter={({ options }) => options}
          data={(users.data?.items ?? []).map(({ id, email }) => ({ value: id, label: email ?? `guest …${id.slice(-8)}` }))}
          w={230}
        />
        {!fixed && (
          <NativeSelect
            label="to"
            value={action}
            onChange={({ currentTarget }) => setAction(currentTarget.value as RecordAction)}
            data={[...RECORD_ACTIONS]}
          />
        )}
        {!record && (
          <TextInput
            label={of}
            placeholder={example}
            classNames={{ input: 'mono' }}
            value={subject}
            onChange={({ currentTarget }) => setSubject(currentTarget.value)}
            w={230}
          />
        )}
        <Button variant="default" onClick={run} loading={trial.isPending} disabled={!given}>
          Try
        </Button>
      </Group>
      <Trouble error={trial.error} />
      {trial.data && (
        <div role="status">
          <Text fw={600} className={trial.data.allowed ? undefined : 'care'}>
            {trial.data.allowed ? 'Allowed' : 'Refused'}
          </Text>
          <ul className="explained">
            <Part of={trial.data.explained as Explained} />
          </ul>
          <Text size="xs" c="dimmed">
            Underlined parts decided.
          </Text>
        </div>
      )}
    </Stack>
  );
}

function Part({ of: { text, result, decided, parts } }: { of: Explained }) {
  const truth = result === null ? 'unknown' : String(result);
  return (
    <li>
      <span className="truth" data-truth={truth}>
        {truth}
      </span>
      <span className={`mono${decided && !parts ? ' decided' : ''}`}>{text}</span>
      {parts && (
        <ul className="explained">
          {parts.map((part) => (
            <Part key={part.text} of={part} />
          ))}
        </ul>
      )}
    </li>
  );
}
