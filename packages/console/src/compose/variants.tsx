/** Variants of the content: by language, platform and gateway, and for the second group of a comparison. */
import { ActionIcon, Button, Group, JsonInput, NumberInput, Select, TextInput } from '@mantine/core';
import { operations, PLATFORMS } from '@orchard/contract';
import { IconX } from '@tabler/icons-react';
import type { ReactNode } from 'react';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { type Difference, type Draft, isJson } from './draft.js';

type Props = { draft: Draft; set: (changes: Partial<Draft>) => void };

export function Variants({ draft, set }: Props) {
  const empty = { name: '', title: '', body: '' };
  const push = draft.way === 'push';
  const more: [label: string, changes: Partial<Draft>, offered: boolean][] = [
    ['Add a language', { locales: [...draft.locales, empty] }, true],
    ['Add a platform', { platforms: [...draft.platforms, empty] }, push],
    ['Add raw JSON for a gateway', { overlays: [...draft.overlays, { gateway: '', json: '' }] }, push],
    ['Compare two contents', { second: { share: 50, title: '', body: '' } }, push && !draft.second],
  ];
  return (
    <>
      <Differences
        of="language"
        list={draft.locales}
        change={(locales) => set({ locales })}
        withTitle={draft.way !== 'sms'}
        nameField={(name, rename) => (
          <TextInput label="Language" placeholder="nb" w={110} value={name} onChange={({ currentTarget }) => rename(currentTarget.value)} />
        )}
      />
      {push && (
        <>
          <Differences
            of="platform"
            list={draft.platforms}
            change={(platforms) => set({ platforms })}
            withTitle
            nameField={(name, rename) => (
              <Select label="Platform" w={110} value={name || null} onChange={(value) => rename(value ?? '')} data={[...PLATFORMS]} />
            )}
          />
          <Overlays draft={draft} set={set} />
          <Comparison draft={draft} set={set} />
        </>
      )}
      <Group gap={4}>
        {more.map(
          ([label, changes, offered]) =>
            offered && (
              <Button key={label} variant="subtle" size="compact-sm" onClick={() => set(changes)}>
                {label}
              </Button>
            ),
        )}
      </Group>
    </>
  );
}

type DifferencesProps = {
  of: string;
  list: Difference[];
  change: (list: Difference[]) => void;
  withTitle: boolean;
  nameField: (name: string, rename: (name: string) => void) => ReactNode;
};

/** Title and body of one variant; empty fields use the base content. */
function Differences({ of, list, change, withTitle, nameField }: DifferencesProps) {
  const amend = (i: number, changes: Partial<Difference>) => change(list.map((one, at) => (at === i ? { ...one, ...changes } : one)));
  return list.map((one, i) => (
    <Group key={`${of} ${String(i)}`} align="flex-end" gap="xs" wrap="nowrap">
      {nameField(one.name, (name) => amend(i, { name }))}
      {withTitle && (
        <TextInput
          label="Title"
          style={{ flex: 1 }}
          value={one.title}
          onChange={({ currentTarget }) => amend(i, { title: currentTarget.value })}
        />
      )}
      <TextInput
        label="Body"
        style={{ flex: 2 }}
        value={one.body}
        onChange={({ currentTarget }) => amend(i, { body: currentTarget.value })}
      />
      <RemoveButton what={one.name || of} onClick={() => change(list.filter((_, at) => at !== i))} />
    </Group>
  ));
}

function RemoveButton({ what, onClick }: { what: string; onClick: () => void }) {
  return (
    <ActionIcon variant="subtle" aria-label={`Remove ${what}`} onClick={onClick}>
      <IconX size={16} />
    </ActionIcon>
  );
}

/** For experts: JSON merged into the message to a network's gateway. */
function Overlays({ draft, set }: Props) {
  const { params } = useEnvironment();
  const gateways = useCall(operations.gateways.list, { params }, { enabled: draft.overlays.length > 0 });
  const names = (gateways.data?.items ?? []).filter(({ kind }) => kind !== 'smpp' && kind !== 'smtp').map(({ name }) => name);
  const amend = (i: number, changes: Partial<Draft['overlays'][number]>) =>
    set({ overlays: draft.overlays.map((one, at) => (at === i ? { ...one, ...changes } : one)) });
  return draft.overlays.map((one, i) => (
    <Group key={`overlay ${String(i)}`} align="flex-end" gap="xs" wrap="nowrap">
      <Select
        label="Gateway"
        w={150}
        value={one.gateway || null}
        onChange={(value) => amend(i, { gateway: value ?? '' })}
        data={[...new Set([...names, one.gateway].filter(Boolean))]}
      />
      <JsonInput
        label={isJson(one.json) ? 'Merged into its payload' : 'Merged into its payload: not JSON yet'}
        placeholder='{"tone":"storm"}'
        style={{ flex: 1 }}
        autosize
        minRows={1}
        value={one.json}
        onChange={(json) => amend(i, { json })}
        error={!isJson(one.json)}
      />
      <RemoveButton
        what={`overlay for ${one.gateway || 'a gateway'}`}
        onClick={() => set({ overlays: draft.overlays.filter((_, at) => at !== i) })}
      />
    </Group>
  ));
}

function Comparison({ draft, set }: Props) {
  const { second } = draft;
  if (!second) return null;
  const change = (changes: Partial<typeof second>) => set({ second: { ...second, ...changes } });
  return (
    <Group align="flex-end" gap="xs" wrap="nowrap">
      <NumberInput
        label="Second, % of devices"
        w={150}
        min={1}
        max={99}
        value={second.share}
        onChange={(value) => change({ share: Number(value) || 50 })}
      />
      <TextInput
        label="Title"
        style={{ flex: 1 }}
        value={second.title}
        onChange={({ currentTarget }) => change({ title: currentTarget.value })}
      />
      <TextInput
        label="Body"
        style={{ flex: 2 }}
        value={second.body}
        onChange={({ currentTarget }) => change({ body: currentTarget.value })}
      />
      <RemoveButton what="the comparison" onClick={() => set({ second: null })} />
    </Group>
  );
}
