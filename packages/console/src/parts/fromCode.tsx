/** «From the terminal, from code»: the same as the page, for scripts. */
import { Button, Drawer, Stack, Tabs } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { IconTerminal2 } from '@tabler/icons-react';
import { Code } from './basics.js';

export type SameFrom = { command: string; method: string; path: string; body?: unknown; library?: string };

/** A text as one word of a shell. */
export const shellWord = (text: string): string => `'${text.replaceAll("'", "'\\''")}'`;

/** @param same what gives the same as the page, with the page's own values filled in */
export function FromCode({ same }: { same: SameFrom }) {
  const [opened, { open, close }] = useDisclosure();
  const body = same.body === undefined ? '' : ` \\\n  -H 'Content-Type: application/json' \\\n  -d ${shellWord(JSON.stringify(same.body))}`;
  const app = same.path.startsWith('/app/');
  const http = `curl -X ${same.method} '${window.location.origin}${same.path}' \\\n  -H '${app ? 'Orchard-Key: <key>' : 'Authorization: Bearer <member token>'}'${body}`;
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
            {same.library && <Tabs.Tab value="library">Client library</Tabs.Tab>}
          </Tabs.List>
          <Tabs.Panel value="terminal">
            <Stack gap="xs">
              <Code>{same.command}</Code>
            </Stack>
          </Tabs.Panel>
          <Tabs.Panel value="http">
            <Code>{http}</Code>
          </Tabs.Panel>
          {same.library && (
            <Tabs.Panel value="library">
              <Code>{same.library}</Code>
            </Tabs.Panel>
          )}
        </Tabs>
      </Drawer>
    </>
  );
}
