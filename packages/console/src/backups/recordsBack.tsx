/** Records of one collection as they were: for the import that went wrong, and the record that somebody deleted. */
import { Checkbox, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const BY_MOMENT = '';
const AN_HOUR_MS = 3_600_000;

export function RecordsBack({ onBegun }: { onBegun: () => void }) {
  const { params } = useEnvironment();
  const collections = useCall(operations.collections.list, { params });
  const backups = useCall(operations.backups.list, { params });
  const names = (collections.data?.items ?? []).filter((one) => !one.outside).map(({ name }) => name);
  const usable = (backups.data?.items ?? []).filter(({ state, key }) => state === 'done' && key.here);
  const form = useOperationForm(operations.backups.restoreRecords, {
    initial: {
      collection: '',
      backup: BY_MOMENT,
      moment: new Date(Date.now() - AN_HOUR_MS).toISOString(),
      filter: '',
      removeOthers: false,
    },
    input: ({ collection, backup, moment, filter, removeOthers }) => ({
      params,
      body: { collection, removeOthers, ...(backup === BY_MOMENT ? { moment } : { backup }), ...(filter ? { filter } : {}) },
    }),
    onDone: onBegun,
  });
  const { backup } = form.form.values;
  return (
    <Stack>
      <Text>
        Each record that differs gets its values back as its next version, so that apps hear of it. Nothing else changes, and the history of
        each record shows what was there before.
      </Text>
      <div className="panel">
        <FormOf of={form} verb="Bring records back">
          <Group align="start" grow>
            <NativeSelect label="Collection" required data={['', ...names]} {...form.form.getInputProps('collection')} />
            <NativeSelect
              label="As they were"
              data={[
                { value: BY_MOMENT, label: 'at a moment of the last 30 days' },
                ...usable.map(({ id, at, note }) => ({
                  value: id,
                  label: `in the backup of ${at?.slice(0, 16).replace('T', ' ')} UTC${note ? ` (${note})` : ''}`,
                })),
              ]}
              {...form.form.getInputProps('backup')}
            />
            {backup === BY_MOMENT && <TextInput label="Moment, in UTC" {...form.form.getInputProps('moment')} />}
          </Group>
          <TextInput
            label="Only those that fit"
            description="A filter over the records as they were; empty: all"
            placeholder="region = 'north'"
            {...form.form.getInputProps('filter')}
          />
          <Checkbox label="Delete records that did not exist then" {...form.form.getInputProps('removeOthers', { type: 'checkbox' })} />
        </FormOf>
      </div>
    </Stack>
  );
}
