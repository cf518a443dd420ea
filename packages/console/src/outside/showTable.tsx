/** Showing a table of another server as a collection: which of its columns stand for what. */
import { Checkbox, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { operations, type SeenTable } from '@orchard/contract';
import { useNavigate } from 'react-router';
import { useEnvironment } from '../environment.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

export function ShowTable({ server, table: { table, columns } }: { server: string; table: SeenTable }) {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const key = columns.find(({ unique }) => unique) ?? columns[0];
  const named = (word: RegExp, as: string[]) =>
    columns.find(({ column, as: type }) => word.test(column) && as.includes(type ?? ''))?.column ?? '';
  const put = useOperationForm(operations.outside.addTable, {
    initial: {
      collection: (table.split('.').at(-1) ?? '').toLowerCase().replace(/\W/g, '_'),
      key: key?.column ?? '',
      version: named(/^(version|rev|revision)$/i, ['integer']),
      owner: '',
      changes: named(/(changed|updated|modified)/i, ['time']),
      writable: false,
    },
    input: ({ collection, version, owner, changes, ...values }) => ({
      params: { ...params, collection },
      body: {
        server,
        table,
        ...values,
        ...Object.fromEntries(Object.entries({ version, owner, changes }).filter(([, value]) => value !== '')),
      },
    }),
    stale: [operations.collections, operations.outside],
    onDone: ({ name }) => navigate(`${base}/data/${name}?tab=outside`),
  });
  const { getInputProps } = put.form;
  const choose = (as: (string | null)[], none: string) => [
    { value: '', label: none },
    ...columns.filter((one) => as.includes(one.as)).map(({ column }) => ({ value: column, label: column })),
  ];
  const hidden = columns.filter(({ as }) => as === null);
  return (
    <Stack gap="xs" className="panel" mt="md">
      <Text fw={600}>
        Show <span className="mono">{table}</span>
      </Text>
      <FormOf of={put} verb="Show as a collection">
        <TextInput label="Name of the collection" {...getInputProps('collection')} />
        <Group grow align="flex-start">
          <NativeSelect
            label="Its id"
            description="A column that tells rows apart"
            data={columns.map(({ column, unique }) => ({ value: column, label: unique ? `${column} (unique)` : column }))}
            {...getInputProps('key')}
          />
          <NativeSelect
            label="Its version"
            description="A number that grows with each change"
            data={choose(['integer'], 'a hash of the row')}
            {...getInputProps('version')}
          />
        </Group>
        <Group grow align="flex-start">
          <NativeSelect label="Its owner" description="The id of a user" data={choose(['text'], 'nobody')} {...getInputProps('owner')} />
          <NativeSelect
            label="Tells of changes"
            description="Looked at every two seconds for live readers"
            data={choose(['time', 'integer', 'number'], 'nothing')}
            {...getInputProps('changes')}
          />
        </Group>
        <Checkbox label="May be written from here, by whom the rules allow" {...getInputProps('writable', { type: 'checkbox' })} />
        {hidden.length > 0 && (
          <Text size="sm" c="dimmed">
            Cannot be shown: {hidden.map(({ column, type }) => `${column} (${type})`).join(', ')}.
          </Text>
        )}
      </FormOf>
    </Stack>
  );
}
