/** Sends the call of a page as you, with the key of a client, or as one of the app's users; and shows what comes back. */
import { Button, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { addressOf, operations } from '@orchard/contract';
import { type FormEvent, useState } from 'react';
import { api, csrfHeaders, useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Trouble } from './basics.js';
import { type CodedCall, twinOf } from './codedCall.js';

type Answer = { status: string; durationMs: number; headers: string; body: string };
const YOU = 'you, as a member';

export function SendCall({ call }: { call: CodedCall }) {
  const { params } = useEnvironment();
  const clients = useCall(operations.clients.list, { params: params as never }, { enabled: Boolean(params.app) });
  const [as, setAs] = useState('');
  const [user, setUser] = useState('');
  const [answer, setAnswer] = useState<Answer | null>(null);
  const [trouble, setTrouble] = useState<Error | null>(null);
  const own = call.operation.caller.kind === 'app' ? call.operation : twinOf(call.operation);
  const keys = (clients.data?.items ?? []).flatMap(({ name, keys: held }) => {
    const key = held.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;
    return key ? [{ label: `the client ${name}`, value: key }] : [];
  });
  const choices = [...(call.operation.caller.kind === 'member' ? [{ label: YOU, value: '' }] : []), ...(own ? keys : [])];
  const key = as || (call.operation.caller.kind === 'member' ? '' : (keys[0]?.value ?? ''));
  const send = async (event: FormEvent) => {
    event.preventDefault();
    setTrouble(null);
    try {
      const token = key && user ? await tokenOf(params, user) : null;
      setAnswer(await exchange(call, key, token, (key && own) || call.operation));
    } catch (error) {
      setTrouble(error as Error);
    }
  };
  return (
    <form onSubmit={send}>
      <Stack gap="sm">
        <Group align="flex-end" grow>
          <NativeSelect label="Send as" data={choices} value={as} onChange={({ currentTarget }) => setAs(currentTarget.value)} />
          {key && (
            <TextInput
              label="For the user"
              description="An e-mail address, or nobody; support sessions are in the audit"
              value={user}
              onChange={({ currentTarget }) => setUser(currentTarget.value)}
            />
          )}
        </Group>
        {call.operation.method !== 'GET' && <Text size="sm">This call changes something.</Text>}
        <Group>
          <Button type="submit">Send</Button>
        </Group>
        <Trouble error={trouble} />
        {answer && (
          <>
            <Text role="status" fw={600}>
              {answer.status}, {answer.durationMs} ms
            </Text>
            <Code label="Copy: headers">{answer.headers}</Code>
            <Code label="Copy: body">{answer.body}</Code>
          </>
        )}
      </Stack>
    </form>
  );
}

async function tokenOf(params: { app: string; environment: string }, email: string): Promise<string> {
  const filter = `email = '${email.replaceAll("'", "''")}'`;
  const { items } = await api.call(operations.users.list, { params, query: { filter, limit: '1' } });
  if (!items[0]) throw new Error(`There is no user ${email} in ${params.app}/${params.environment}.`);
  const body = { reason: 'A call sent from the console' };
  return (await api.call(operations.accounts.beginSupport, { params: { ...params, user: items[0].id }, body })).accessToken;
}

async function exchange({ input }: CodedCall, key: string, token: string | null, operation: CodedCall['operation']): Promise<Answer> {
  const { body } = input as { body?: unknown };
  const who = key ? { 'orchard-key': key, ...(token ? { authorization: `Bearer ${token}` } : {}) } : csrfHeaders();
  const started = performance.now();
  const reply = await fetch(addressOf(operation, input as never), {
    method: operation.method,
    // A call of an app carries no cookie of yours.
    credentials: key ? 'omit' : 'same-origin',
    headers: { ...who, ...(body === undefined ? {} : { 'content-type': 'application/json' }) },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  });
  const text = await reply.text();
  return {
    status: `${reply.status} ${reply.statusText}`,
    durationMs: Math.round(performance.now() - started),
    headers: [...reply.headers].map(([name, value]) => `${name}: ${value}`).join('\n'),
    body: pretty(text).slice(0, 20_000),
  };
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text || '(empty)';
  }
}
