/** Tries a notification on one device: it offers those seen last, and finds others by id, model or user. */
import { Button, Group, Select, Text, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { type Device, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { useEnvironment } from '../environment.js';
import { contentOf, type Draft } from './draft.js';

const OFFERED = 20;
const TYPING_MS = 250;

/** A text inside a CQL2 literal, with the wildcards of LIKE as they are (CQL2 section 7.1). */
const quoted = (text: string) => text.replaceAll("'", "''");

/** The devices to offer: reachable or not, since a test also shows why one is unreachable. */
function useDevices(typed: string) {
  const { params } = useEnvironment();
  const [text] = useDebouncedValue(typed.trim(), TYPING_MS);
  const filter = ['id', 'model', 'userId'].map((field) => `${field} LIKE '${quoted(text)}%'`).join(' OR ');
  const query = { sort: '-lastSeenAt', limit: OFFERED, ...(text ? { filter } : {}) };
  return useCall(operations.devices.list, { params, query }).data?.items ?? [];
}

const describe = ({ id, model, platform, reachable }: Device) => ({
  value: id,
  label: `${model ?? platform}, ${id}${reachable ? '' : ' (not reachable)'}`,
});

export function TestOnDevice({ draft, first }: { draft: Draft; first: string }) {
  const { params } = useEnvironment();
  const [device, setDevice] = useState<string | null>(first || null);
  const [typed, setTyped] = useState('');
  const chosen = typed.includes(', ') ? '' : typed;
  const devices = useDevices(chosen).map(describe);
  const offered = device && !devices.some(({ value }) => value === device) ? [{ value: device, label: device }, ...devices] : devices;
  const test = useChange(operations.notifications.sendManaged);
  const content = contentOf(draft);
  return (
    <section className="panel">
      <Title order={2} mb={6}>
        Test on one device
      </Title>
      <Group align="flex-end" gap="xs">
        <Select
          label="Device"
          placeholder="Id, model or user id"
          searchable
          clearable
          style={{ flex: 1 }}
          value={device}
          onChange={setDevice}
          onSearchChange={setTyped}
          data={offered}
          filter={({ options }) => options}
          nothingFoundMessage="No device begins with this"
        />
        <Button
          variant="default"
          disabled={!content || !draft.title || !device}
          loading={test.isPending}
          onClick={() => device && test.mutate({ params, body: { ...content, audience: { device } } })}
        >
          Send a test
        </Button>
      </Group>
      {test.data && (
        <Text size="sm" role="status" mt={6}>
          {test.data.deliveries.skipped ? `Not sent: ${test.data.reasons[0]?.reason}` : 'It is on its way to this one device.'}
        </Text>
      )}
      <Trouble error={test.error} />
    </section>
  );
}
