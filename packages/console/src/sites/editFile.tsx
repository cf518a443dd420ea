/** A text file of the version in force, edited in the browser: saving makes a version. */
import { Button, Group, Select, Stack, Text, Textarea } from '@mantine/core';
import { operations, type SiteDocument } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Trouble } from '../parts/basics.js';

const own = operations.sites;

export function EditFile({ site: { name, version } }: { site: SiteDocument }) {
  const { params } = useEnvironment();
  const [path, setPath] = useState<string | null>(null);
  const files = useCall(own.version, { params: { ...params, site: name, version }, query: {} }, { enabled: version > 0 });
  if (version === 0) return <Text size="sm">There is no version in force yet.</Text>;
  const texts = (files.data?.items ?? []).filter(({ type }) => /^text\/|javascript|json|xml|svg/.test(type)).map((file) => file.path);
  return (
    <Stack gap="sm">
      <Select label="File" searchable placeholder="Choose a file" data={texts} value={path} onChange={setPath} w={420} />
      {path && <Edited key={`${path} ${version}`} site={name} path={path} />}
    </Stack>
  );
}

function Edited({ site, path }: { site: string; path: string }) {
  const { params } = useEnvironment();
  const at = { ...params, site, path };
  const answer = useCall(own.readFile, { params: at });
  const [text, setText] = useState<string | null>(null);
  const save = useChange(own.writeFile);
  return (
    <Loaded of={answer}>
      {(file) => (
        <>
          <Textarea
            label={`Text of ${path}`}
            value={text ?? file.text}
            onChange={({ currentTarget }) => setText(currentTarget.value)}
            autosize
            minRows={12}
            maxRows={28}
            spellCheck={false}
            classNames={{ input: 'mono' }}
          />
          <Group gap="xs">
            <Button
              disabled={text === null || text === file.text}
              loading={save.isPending}
              onClick={() => save.mutate({ params: at, body: { text: text ?? '', version: file.version } })}
            >
              Save as a new version
            </Button>
            {text !== null && text !== file.text && (
              <Button variant="subtle" onClick={() => setText(null)}>
                Discard changes
              </Button>
            )}
          </Group>
          <Trouble error={save.error} />
        </>
      )}
    </Loaded>
  );
}
