import { Button, Checkbox, Group, MultiSelect, NativeSelect, Stack, TagsInput, Textarea, TextInput } from '@mantine/core';
import { ENDPOINT_METHODS, type FunctionShown, operations } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { CheckErrors } from './checkErrors.js';
import { Trial } from './trial.js';

const definitionOf = (shown: FunctionShown | null) => ({
  path: shown?.path ?? '',
  methods: shown?.methods ?? (['GET'] as FunctionShown['methods']),
  callers: shown?.callers ?? ('signed-in' as const),
  rights: shown?.rights ?? ('caller' as const),
  hosts: shown?.hosts ?? [],
});

/** The code of a function and where it answers; with a trial, once it is saved. */
export function Editor({
  shown,
  files: saved,
  onSaved,
}: {
  shown: FunctionShown | null;
  files: Record<string, string>;
  onSaved: () => void;
}) {
  const { params } = useEnvironment();
  const [name, setName] = useState(shown?.name ?? '');
  const [files, setFiles] = useState(saved);
  const [open, setOpen] = useState(Object.keys(saved).find((file) => file.startsWith('main.')) ?? Object.keys(saved)[0] ?? 'main.ts');
  const [wanted, setWanted] = useState(definitionOf(shown));
  const [use, setUse] = useState(true);
  const put = useChange(operations.functions.put);
  const at = { params: { ...params, name: name.trim() } };
  const save = () =>
    put.mutate({ ...at, body: { kind: 'endpoint', ...wanted, path: wanted.path || name.trim(), files, use } }, { onSuccess: onSaved });
  const set = (change: Partial<typeof wanted>) => setWanted((before) => ({ ...before, ...change }));
  return (
    <Stack gap="sm">
      <Group grow align="flex-start">
        {!shown && (
          <TextInput label="Name" placeholder="price" value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
        )}
        <TextInput
          label="Path below /app/v1/endpoints/"
          placeholder="huts/{hut}/price"
          classNames={{ input: 'mono' }}
          value={wanted.path}
          onChange={({ currentTarget }) => set({ path: currentTarget.value })}
        />
        <MultiSelect
          label="Methods"
          data={[...ENDPOINT_METHODS]}
          value={wanted.methods}
          onChange={(methods) => set({ methods: methods as never })}
        />
      </Group>
      <Group grow align="flex-start">
        <NativeSelect
          label="Who may call it"
          data={[
            { value: 'signed-in', label: 'signed-in users and servers' },
            { value: 'anyone', label: 'anyone with a client key' },
            { value: 'servers', label: 'servers alone' },
          ]}
          value={wanted.callers}
          onChange={({ currentTarget }) => set({ callers: currentTarget.value as never })}
        />
        <NativeSelect
          label="Its rights"
          data={[
            { value: 'caller', label: 'those of whoever calls it' },
            { value: 'own', label: 'its own: no rules apply' },
          ]}
          value={wanted.rights}
          onChange={({ currentTarget }) => set({ rights: currentTarget.value as never })}
        />
        <TagsInput
          label="Hosts it may fetch from"
          placeholder="weather.example"
          value={wanted.hosts}
          onChange={(hosts) => set({ hosts })}
        />
      </Group>
      {Object.keys(files).length > 1 && (
        <NativeSelect label="File" data={Object.keys(files)} value={open} onChange={({ currentTarget }) => setOpen(currentTarget.value)} />
      )}
      <Textarea
        label={open}
        autosize
        minRows={14}
        maxRows={32}
        spellCheck={false}
        wrap="off"
        classNames={{ input: 'mono' }}
        value={files[open] ?? ''}
        onChange={({ currentTarget: { value } }) => setFiles((before) => ({ ...before, [open]: value }))}
      />
      <CheckErrors error={put.error} />
      <Group>
        <Button onClick={save} loading={put.isPending} disabled={!name.trim()}>
          Save
        </Button>
        <Checkbox label="Put it in force at once" checked={use} onChange={({ currentTarget }) => setUse(currentTarget.checked)} />
      </Group>
      {shown && <Trial name={shown.name} files={files} />}
    </Stack>
  );
}
