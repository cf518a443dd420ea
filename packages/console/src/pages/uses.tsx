/** Who uses what: clients, functions, collections and upstreams, by what was recorded. */
import { NativeSelect, Stack, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { OFTEN, useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { UseDrawing, UseTable } from '../upstreams/uses.js';

export function UsesPage() {
  const { params } = useEnvironment();
  const [of, setOf] = useAddressState('of');
  const [hours, setHours] = useAddressState('hours', '24');
  const uses = useCall(operations.upstreams.uses, { params, query: { hours: Number(hours) } }, OFTEN);
  const names = [...new Set((uses.data?.items ?? []).map(({ to }) => `${to.kind}:${to.name}`))].sort();
  return (
    <Stack gap="lg">
      <PageHead title="Uses" hint="Which clients and functions use what: what breaks if one of these changes">
        <NativeSelect
          size="xs"
          aria-label="What is used"
          data={[{ value: '', label: 'everything' }, ...names.map((value) => ({ value, label: value.replace(':', ' ') }))]}
          value={of}
          onChange={({ currentTarget }) => setOf(currentTarget.value || null)}
        />
        <NativeSelect
          size="xs"
          aria-label="Since"
          data={[
            { value: '1', label: 'last hour' },
            { value: '24', label: 'last day' },
            { value: '168', label: 'last seven days' },
          ]}
          value={hours}
          onChange={({ currentTarget }) => setHours(currentTarget.value)}
        />
      </PageHead>
      <Loaded of={uses}>
        {({ items }) => {
          const shown = of ? items.filter(({ to }) => `${to.kind}:${to.name}` === of) : items;
          if (shown.length === 0)
            return (
              <Empty title="Nothing was used">
                <Text>No app called, and no function ran, in this time.</Text>
              </Empty>
            );
          return (
            <>
              <UseDrawing items={shown} onChoose={setOf} />
              <UseTable items={shown} />
            </>
          );
        }}
      </Loaded>
    </Stack>
  );
}
