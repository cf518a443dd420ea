/** "From code": the calls of a page as commands, over HTTP and with the client library, made from their operations. */
import { Button, Drawer, NativeSelect, Stack, Tabs } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { addressOf, type CallInput, commandOf, libraryCall, type Operation, operations, shellWord } from '@orchard/contract';
import { IconTerminal2 } from '@tabler/icons-react';
import { useState } from 'react';
import { Code } from './basics.js';
import { type CodedCall, twinOf } from './codedCall.js';
import { SendCall } from './sendCall.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;

const HEADERS = {
  anyone: '',
  app: 'Orchard-Key: <client key>',
  server: 'Orchard-Key: <server key>',
  member: 'Authorization: Bearer <member token>',
} as const;

/**
 * A call of a page, with the page's values.
 * @param command for commands that do not follow the rules of the contract, such as those that read a file
 */
export function coded<O extends Any>(operation: O, input: CallInput<O>, command = commandOf(operation, input)): CodedCall {
  const { body } = input as { body?: unknown };
  const header = HEADERS[(operation as Any).caller.kind];
  const http = [
    `curl -X ${operation.method} ${shellWord(`${window.location.origin}${addressOf(operation, input as never)}`)}`,
    ...(header ? [`-H '${header}'`] : []),
    ...(body === undefined ? [] : ["-H 'Content-Type: application/json'", `-d ${shellWord(JSON.stringify(body))}`]),
  ].join(' \\\n  ');
  return { command, http, library: libraryCall(operation, input) ?? anyCall(operation, input), operation, input };
}

/** Names of operations in the library's `call`, such as `files.list`. */
const NAMES = new Map(
  Object.entries(operations).flatMap(([group, own]) => Object.entries(own).map(([name, { id }]) => [id, `${group}.${name}`])),
);

/** The line for a call that the library has no function of its own for: of an app, or of the twin that apps have. */
function anyCall(operation: Any, input: object): string | undefined {
  const own = operation.caller.kind === 'app' ? operation : twinOf(operation);
  if (!own) return undefined;
  const { params, query, body } = input as { params?: Record<string, unknown>; query?: unknown; body?: unknown };
  const named = Object.keys(own.params.shape);
  const given = Object.fromEntries(Object.entries(params ?? {}).filter(([name]) => named.includes(name)));
  const parts = { ...(named.length > 0 ? { params: given } : {}), ...(query ? { query } : {}), ...(body ? { body } : {}) };
  return `await orchard.call(${JSON.stringify(NAMES.get(own.id))}, ${JSON.stringify(parts)});`;
}

export function FromCode({ calls }: { calls: CodedCall[] }) {
  const [opened, { open, close }] = useDisclosure();
  const library = calls.flatMap(({ library: line }) => line ?? []);
  return (
    <>
      <Button variant="default" leftSection={<IconTerminal2 size={16} />} onClick={open}>
        From code
      </Button>
      <Drawer opened={opened} onClose={close} position="right" size="lg" title="The same from the terminal or from code">
        <Tabs defaultValue="terminal">
          <Tabs.List mb="sm">
            <Tabs.Tab value="terminal">Terminal</Tabs.Tab>
            <Tabs.Tab value="http">HTTP</Tabs.Tab>
            {library.length > 0 && <Tabs.Tab value="library">Client library</Tabs.Tab>}
            <Tabs.Tab value="send">Send</Tabs.Tab>
          </Tabs.List>
          <Tabs.Panel value="terminal">
            <Code>{calls.map(({ command }) => command).join('\n')}</Code>
          </Tabs.Panel>
          <Tabs.Panel value="http">
            <Code>{calls.map(({ http }) => http).join('\n\n')}</Code>
          </Tabs.Panel>
          {library.length > 0 && (
            <Tabs.Panel value="library">
              <Code>{library.join('\n')}</Code>
            </Tabs.Panel>
          )}
          <Tabs.Panel value="send">{opened && <Sending calls={calls} />}</Tabs.Panel>
        </Tabs>
      </Drawer>
    </>
  );
}

/** One of the page's calls, to be sent. */
function Sending({ calls }: { calls: CodedCall[] }) {
  const [at, setAt] = useState(0);
  const call = calls[Math.min(at, calls.length - 1)];
  if (!call) return null;
  return (
    <Stack>
      {calls.length > 1 && (
        <NativeSelect
          label="Call"
          value={String(at)}
          onChange={({ currentTarget }) => setAt(Number(currentTarget.value))}
          data={calls.map(({ operation }, i) => ({ value: String(i), label: operation.summary }))}
        />
      )}
      <SendCall key={at} call={call} />
    </Stack>
  );
}
