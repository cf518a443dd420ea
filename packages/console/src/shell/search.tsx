/** The search box: pages, collections, users, devices and requests, opened with / or Ctrl-K. */
import { Kbd, Modal, NavLink, Stack, Text, TextInput, UnstyledButton } from '@mantine/core';
import { useDebouncedValue, useDisclosure, useHotkeys } from '@mantine/hooks';
import { operations } from '@orchard/contract';
import { IconSearch } from '@tabler/icons-react';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { RAIL } from './rail.js';

type Hit = { label: string; kind: string; to: string };
const REQUEST_ID = /^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12}$/;

export function SearchBox() {
  const [opened, { open, close }] = useDisclosure();
  useHotkeys([
    ['/', open],
    ['mod+K', open],
  ]);
  return (
    <>
      <UnstyledButton onClick={open} aria-label="Search" visibleFrom="sm">
        <Text size="sm" c="dimmed" component="span" style={{ display: 'inline-flex', gap: 8, alignItems: 'center' }}>
          <IconSearch size={15} /> Search <Kbd size="xs">/</Kbd>
        </Text>
      </UnstyledButton>
      <Modal opened={opened} onClose={close} title="Search" size="lg">
        <SearchPanel onDone={close} />
      </Modal>
    </>
  );
}

function SearchPanel({ onDone }: { onDone: () => void }) {
  const [text, setText] = useState('');
  const navigate = useNavigate();
  const hits = useHits(text);
  const go = (hit: Hit | undefined) => {
    if (!hit) return;
    navigate(hit.to);
    onDone();
  };
  return (
    <Stack gap="xs">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          go(hits[0]);
        }}
      >
        <TextInput
          data-autofocus
          aria-label="Search for"
          placeholder="A page, collection, e-mail address, device or request id"
          value={text}
          onChange={({ currentTarget }) => setText(currentTarget.value)}
        />
      </form>
      {hits.map((hit) => (
        <NavLink key={hit.to} label={hit.label} description={hit.kind} onClick={() => go(hit)} component="button" />
      ))}
      {text && hits.length === 0 && (
        <Text c="dimmed" size="sm">
          Nothing found.
        </Text>
      )}
    </Stack>
  );
}

function useHits(text: string): Hit[] {
  const { params, base } = useEnvironment();
  const [wanted] = useDebouncedValue(text.trim(), 200);
  const quoted = wanted.replaceAll("'", "''");
  const enabled = wanted.length >= 2;
  const collections = useCall(operations.collections.list, { params });
  const users = useCall(
    operations.users.list,
    { params, query: { filter: `email LIKE '%${quoted}%' OR name LIKE '%${quoted}%'`, limit: 5 } },
    { enabled },
  );
  const devices = useCall(operations.devices.list, { params, query: { filter: `id LIKE '${quoted}%'`, limit: 5 } }, { enabled });
  if (!wanted) return [];
  const fits = (label: string) => label.toLowerCase().includes(wanted.toLowerCase());
  return [
    ...(REQUEST_ID.test(wanted) ? [{ label: wanted, kind: 'request', to: `${base}/requests?open=${wanted}` }] : []),
    ...RAIL.flatMap(({ entries }) => entries)
      .filter(({ label }) => fits(label))
      .map(({ label, to }) => ({ label, kind: 'page', to: `${base}/${to}` })),
    ...(collections.data?.items ?? [])
      .filter(({ name }) => fits(name))
      .map(({ name }) => ({ label: name, kind: 'collection', to: `${base}/data/${name}` })),
    ...(enabled ? (users.data?.items ?? []) : []).map((user) => ({
      label: `${user.name ?? ''} ${user.email}`,
      kind: 'user',
      to: `${base}/users?open=${user.id}`,
    })),
    ...(enabled ? (devices.data?.items ?? []) : []).map((device) => ({
      label: `${device.id} ${device.model ?? ''}`,
      kind: 'device',
      to: `${base}/devices?open=${device.id}`,
    })),
  ].slice(0, 12);
}
