/** «From code»: the calls of a page as commands, over HTTP and with the client library, made from their operations. */
import { Button, Drawer, Tabs } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { addressOf, type CallInput, commandOf, libraryCall, type Operation, shellWord } from '@orchard/contract';
import { IconTerminal2 } from '@tabler/icons-react';
import { Code } from './basics.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;
export type CodedCall = { command: string; http: string; library: string | undefined };

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
  return { command, http, library: libraryCall(operation, input) };
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
        </Tabs>
      </Drawer>
    </>
  );
}
