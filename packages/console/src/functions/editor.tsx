import { Anchor, Button, Checkbox, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { type FunctionShown, operations, Problem } from '@orchard/contract';
import { useEffect, useMemo, useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { CheckErrors } from './checkErrors.js';
import { CodeEditor, type CodeError } from './codeEditor.js';
import type { KnownNames } from './completion.js';
import { bodyOf, DefinitionFields, definitionOf } from './definition.js';
import { stubFor } from './stubs.js';
import { Trial } from './trial.js';

const CHECK_AFTER_MS = 700;

/** The code of a function and where it stands; with a trial, once it is saved. */
export function Editor({
  shown,
  files: saved,
  on,
  onSaved,
}: {
  shown: FunctionShown | null;
  files: Record<string, string>;
  on?: string;
  onSaved: () => void;
}) {
  const { params, base } = useEnvironment();
  const known = useKnownNames();
  const collections = known.collections.map((one) => one.name);
  const [name, setName] = useState(shown?.name ?? '');
  const [wanted, setWanted] = useState(() => ({
    ...definitionOf(shown, on ?? collections[0] ?? 'huts'),
    ...(on ? { kind: 'hook' as const } : {}),
  }));
  const stub = stubFor(wanted.kind, wanted.on);
  const [changed, setChanged] = useState<Record<string, string> | null>(null);
  const files = changed ?? (shown ? saved : { 'main.ts': stub });
  const [open, setOpen] = useState(() => Object.keys(saved).find((file) => file.startsWith('main.')) ?? Object.keys(saved)[0] ?? 'main.ts');
  const [use, setUse] = useState(true);
  const put = useChange(operations.functions.put);
  const errors = useErrors(name.trim() || 'new', wanted.kind, files, put.error);
  const at = { params: { ...params, name: name.trim() } };
  const save = () => put.mutate({ ...at, body: { ...bodyOf(wanted, name.trim()), files, use } }, { onSuccess: onSaved });
  const collection = wanted.kind === 'hook' ? wanted.on.collection : undefined;
  return (
    <Stack gap="sm">
      {!shown && (
        <TextInput label="Name" placeholder="price" w={280} value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
      )}
      <DefinitionFields
        of={wanted}
        set={(change) => setWanted((before) => ({ ...before, ...change }))}
        collections={collections}
        isNew={!shown}
      />
      {collection && (
        <Text size="sm">
          It stands on{' '}
          <Anchor component={Link} to={`${base}/data/${collection}`} size="sm">
            {collection}
          </Anchor>
          .
        </Text>
      )}
      {Object.keys(files).length > 1 && (
        <NativeSelect label="File" data={Object.keys(files)} value={open} onChange={({ currentTarget }) => setOpen(currentTarget.value)} />
      )}
      <CodeEditor
        key={open}
        label={`Code of ${open}`}
        value={files[open] ?? ''}
        onChange={(text) => setChanged((before) => ({ ...(before ?? files), [open]: text }))}
        errors={errors.filter(({ file }) => file === open || file === '')}
        known={known}
      />
      <CheckErrors error={put.error} />
      <Group>
        <Button onClick={save} loading={put.isPending} disabled={!name.trim()}>
          Save
        </Button>
        <Checkbox label="Put it in force at once" checked={use} onChange={({ currentTarget }) => setUse(currentTarget.checked)} />
        <Text size="sm" className={errors.length > 0 ? 'care' : 'hint'}>
          {errors.length === 0
            ? 'No errors found.'
            : `${errors.length === 1 ? 'One error' : `${errors.length} errors`}, marked in the code.`}
        </Text>
      </Group>
      {shown && <Trial name={shown.name} kind={wanted.kind} files={files} />}
    </Stack>
  );
}

function useKnownNames(): KnownNames {
  const { params } = useEnvironment();
  const collections = useCall(operations.collections.list, { params });
  const upstreams = useCall(operations.upstreams.list, { params });
  const secrets = useCall(operations.functions.secrets, { params });
  return useMemo(
    () => ({
      collections: (collections.data?.items ?? []).map(({ name, fields }) => ({ name, fields: fields.map((field) => field.name) })),
      upstreams: (upstreams.data?.items ?? []).map(({ name }) => name),
      secrets: (secrets.data?.items ?? []).map(({ name }) => name),
    }),
    [collections.data, upstreams.data, secrets.data],
  );
}

const NONE: CodeError[] = [];

/** Errors of the code as it stands: those of the last save, until it is changed and checked anew. */
function useErrors(name: string, kind: FunctionShown['kind'], files: Record<string, string>, saving: unknown): CodeError[] {
  const { params } = useEnvironment();
  const [settled] = useDebouncedValue(files, CHECK_AFTER_MS);
  const check = useChange(operations.functions.check, []);
  const { mutate } = check;
  const text = JSON.stringify([kind, settled]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text stands for the files
  useEffect(() => mutate({ params: { ...params, name }, body: { kind, files: settled } }), [text]);
  const found = check.data?.errors;
  return useMemo(() => found ?? (saving instanceof Problem ? errorsIn(saving) : NONE), [found, saving]);
}

const errorsIn = ({ extras }: Problem): CodeError[] =>
  (extras.fields ?? []).flatMap(({ path, problem }) => {
    const [, file, line, column] = /^(.*):(\d+):(\d+)$/.exec(path) ?? [];
    return file ? [{ file, line: Number(line), column: Number(column), message: problem }] : [];
  });
