/** Collections, with sizes and access rules. */
import { Button, Modal, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type Collection, commandOf, operations } from '@orchard/contract';
import { presetOf } from '@orchard/core';
import { useNavigate } from 'react-router';
import { Code, Empty } from '../parts/basics.js';
import { bytes, count } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useEnvironment } from '../environment.js';

const WORDS = { everyone: 'everyone', 'signed-in': 'every signed-in user', owner: 'the owner of the record', nobody: 'nobody' } as const;
export function ruleWords(rule: string): string {
  const preset = presetOf(rule);
  return preset ? WORDS[preset] : rule;
}

const ruled = (action: 'read' | 'create' | 'update', label: string) => ({
  name: action,
  label,
  render: ({ rules }: Collection) => <span title={rules[action]}>{ruleWords(rules[action])}</span>,
});
const grown = (by: number | null) => (by === null ? '–' : by > 0 ? `+${count(by)}` : count(by));

export function CollectionsPage() {
  const { params, base, details } = useEnvironment();
  const navigate = useNavigate();
  const [adding, { open, close }] = useDisclosure();
  const first = { params: { ...params, collection: 'huts' }, body: { name: 'Cold Tarn', bunks: 24 } };
  return (
    <>
      <ListPage
        title="Collections"
        hint={
          details?.mode === 'closed'
            ? 'Closed: writes may not add collections or fields'
            : 'Open: a first write creates a collection and its fields'
        }
        operation={operations.collections.list}
        label="Collections"
        idOf={({ name }) => name}
        onOpen={(name) => navigate(`${base}/data/${name}`)}
        empty={
          <Empty title="Nothing is stored yet">
            <Text>A collection holds records, a record has typed fields. In an open environment the first write creates both:</Text>
            <Code>{commandOf(operations.managedRecords.create, first)}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Collection', render: ({ name }) => name },
          { name: 'records', label: 'Records', right: true, render: ({ records }) => <span className="mono">{count(records)}</span> },
          { name: 'grownBy', label: 'In 7 days', right: true, render: ({ grownBy }) => <span className="mono">{grown(grownBy)}</span> },
          { name: 'bytes', label: 'Size', right: true, render: (item) => <span className="mono">{bytes(item.bytes)}</span> },
          {
            name: 'fields',
            label: 'Fields',
            render: ({ fields }) => (
              <span title={fields.map(({ name, type }) => `${name}: ${type}`).join('\n')}>{fields.map(({ name }) => name).join(', ')}</span>
            ),
          },
          ruled('read', 'Read by'),
          ruled('create', 'Created by'),
          ruled('update', 'Changed by'),
        ]}
      >
        <Button onClick={open}>Add collection</Button>
      </ListPage>
      <Modal opened={adding} onClose={close} title="Add collection">
        <NewCollection />
      </Modal>
    </>
  );
}

function NewCollection() {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const create = useOperationForm(operations.collections.create, {
    initial: { name: '' },
    input: (body) => ({ params, body }),
    onDone: ({ name }) => navigate(`${base}/data/${name}`),
  });
  return (
    <FormOf of={create} verb="Add collection">
      <TextInput
        data-autofocus
        label="Name"
        description="A lower-case letter, then letters, digits and _"
        required
        {...create.form.getInputProps('name')}
      />
      <Text size="sm">At first only signed-in owners read and write their own records.</Text>
    </FormOf>
  );
}
