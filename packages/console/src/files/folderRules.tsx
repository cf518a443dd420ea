/** The rules of folders: those of the innermost folder that has some hold. */
import { Button, Checkbox, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FolderSettingsDocument, operations } from '@orchard/contract';
import { RECORD_ACTIONS, type RecordAction } from '@orchard/core';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { RuleInput } from '../data/rules.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Trouble } from '../parts/basics.js';
import { useFileNames } from './browse.js';
import { TryFolderRule } from './tryFolderRule.js';

const own = operations.managedFiles;
const WORDS: Record<RecordAction, string> = { read: 'Read', create: 'Store', update: 'Change', delete: 'Delete' };

export function FolderRules() {
  const { params } = useEnvironment();
  const settings = useCall(own.folderSettings, { params });
  const [path, setPath] = useState('');
  const change = useChange(own.changeFolderSettings, [operations.managedFiles]);
  return (
    <Stack gap="lg" maw={900}>
      <Text c="dimmed" size="sm">
        Rules apply to calls with a client key; in a folder, those of the innermost folder that has some. Server keys (by scope) and members
        (by role) are exempt. A file that is moved must pass the rules of both folders.
      </Text>
      <Loaded of={settings}>
        {({ items }) => items.map((one) => <OneFolder key={`${one.path} ${JSON.stringify(one.rules)} ${one.public}`} settings={one} />)}
      </Loaded>
      <form
        className="panel"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate({ params, query: { path: path.trim() }, body: { rules: {} } }, { onSuccess: () => setPath('') });
        }}
      >
        <Group align="flex-end" gap="xs">
          <TextInput
            label="Rules for another folder"
            placeholder="photos/huts"
            value={path}
            onChange={({ currentTarget }) => setPath(currentTarget.value)}
            w={280}
          />
          <Button type="submit" variant="default" disabled={!path.trim()} loading={change.isPending}>
            Give it rules of its own
          </Button>
        </Group>
        <Trouble error={change.error} />
      </form>
    </Stack>
  );
}

function OneFolder({ settings: { path, rules, inForce, public: open } }: { settings: FolderSettingsDocument }) {
  const { params } = useEnvironment();
  const [wanted, setWanted] = useState(inForce);
  const [trying, setTrying] = useState<RecordAction | null>(null);
  const names = useFileNames();
  const change = useChange(own.changeFolderSettings, [operations.managedFiles]);
  const changed = RECORD_ACTIONS.some((action) => wanted[action] !== inForce[action]);
  const save = (body: { rules?: object | null; public?: boolean }) => change.mutate({ params, query: { path }, body: body as never });
  const title = path || 'The root';
  return (
    <section className="panel" aria-label={title}>
      <Group justify="space-between" mb="xs">
        <Title order={2} size="h3">
          {title}
        </Title>
        <Checkbox
          label="Public: everybody may read, without a key"
          checked={open}
          onChange={({ currentTarget }) => save({ public: currentTarget.checked })}
        />
      </Group>
      {rules === null && path !== '' ? (
        <Text size="sm" c="dimmed">
          The rules of {inForce.from || 'the root'} hold.
        </Text>
      ) : (
        <Stack gap="xs">
          {RECORD_ACTIONS.map((action) => (
            <div key={action}>
              <Group gap="sm" wrap="nowrap" align="flex-start">
                <Text w={64} pt={6} size="sm" fw={600}>
                  {WORDS[action]}
                </Text>
                <div style={{ flex: 1 }}>
                  <RuleInput
                    who={`Who may ${action} in ${title}`}
                    label={`Rule to ${action} in ${title}`}
                    rule={wanted[action]}
                    onChange={(rule) => setWanted({ ...wanted, [action]: rule })}
                    names={names}
                  />
                </div>
                <Button
                  size="xs"
                  variant="default"
                  aria-expanded={trying === action}
                  aria-label={`Try as …: ${action} in ${title}`}
                  onClick={() => setTrying(trying === action ? null : action)}
                >
                  Try as …
                </Button>
              </Group>
              {trying === action && <TryFolderRule action={action} rule={wanted[action]} />}
            </div>
          ))}
          <Group gap="xs">
            <Button
              size="xs"
              disabled={!changed}
              loading={change.isPending}
              onClick={() => save({ rules: Object.fromEntries(RECORD_ACTIONS.map((action) => [action, wanted[action]])) })}
            >
              Save rules
            </Button>
            {changed && (
              <Button size="xs" variant="subtle" onClick={() => setWanted(inForce)}>
                Discard changes
              </Button>
            )}
            {path !== '' && (
              <Button size="xs" variant="subtle" onClick={() => save({ rules: null })}>
                Let the rules above hold
              </Button>
            )}
          </Group>
        </Stack>
      )}
      <Trouble error={change.error} />
    </section>
  );
}
