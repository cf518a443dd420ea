/** The fields of users: what the team has defined, and a form for another one. */
import { Button, Group, Modal, NativeSelect, Stack, Switch, TagsInput, Text, TextInput } from '@mantine/core';
import { type NamedUserField, operations } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Loaded, Trouble } from '../parts/basics.js';
import { counted } from '../parts/format.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.accounts;
const TYPES: NamedUserField['type'][] = ['text', 'integer', 'number', 'boolean', 'date', 'time', 'choice', 'list'];
const WHO = { user: 'the user', servers: 'the team and its servers' };

export function UserFields() {
  const { params, details } = useEnvironment();
  const fields = useCall(own.fields, { params });
  const remove = useChange(own.removeField);
  const [edited, setEdited] = useState<NamedUserField | 'new' | null>(null);
  const [misfits, setMisfits] = useState(0);
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  return (
    <Stack>
      <Trouble error={remove.error} />
      {misfits > 0 && (
        <Text className="care" role="alert">
          {counted(misfits, 'user')} have a value that does not fit. It stays until it is changed; no rule sees it.
        </Text>
      )}
      <Loaded of={fields}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No field is defined">
              <Text>
                Users keep whatever the app writes to their data. A defined field is checked, and rules and filters can ask for it.
              </Text>
            </Empty>
          ) : (
            <div className="listing" style={{ borderTop: 0 }}>
              <table>
                <TableHead columns={['Field', 'Type', 'Seen by', 'Changed by', 'In rules', '']} />
                <tbody>
                  {items.map((field) => (
                    <tr key={field.name}>
                      <td>
                        <b>{field.name}</b>
                        {field.description && (
                          <Text size="sm" c="dimmed">
                            {field.description}
                          </Text>
                        )}
                      </td>
                      <td>
                        {field.type}
                        {field.choices && `: ${field.choices.join(', ')}`}
                        {field.required && ', required'}
                      </td>
                      <td>{WHO[field.seenBy]}</td>
                      <td>{WHO[field.changedBy]}</td>
                      <td className="mono">{field.type === 'list' ? '' : `me('${field.name}')`}</td>
                      <td className="right">
                        {mayChange && (
                          <Group gap="xs" justify="flex-end" wrap="nowrap">
                            <Button size="compact-xs" variant="default" onClick={() => setEdited(field)}>
                              Change
                            </Button>
                            <Button
                              size="compact-xs"
                              variant="default"
                              onClick={() => remove.mutate({ params: { ...params, field: field.name } })}
                            >
                              Take back
                            </Button>
                          </Group>
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
      {mayChange && (
        <Group>
          <Button variant="default" leftSection={<IconPlus size={16} aria-hidden />} onClick={() => setEdited('new')}>
            Define a field
          </Button>
        </Group>
      )}
      <Modal
        opened={edited !== null}
        onClose={() => setEdited(null)}
        title={edited === 'new' ? 'Define a field of users' : 'Change the field'}
      >
        {edited && (
          <FieldForm
            of={edited === 'new' ? null : edited}
            onDone={(count) => {
              setMisfits(count);
              setEdited(null);
            }}
          />
        )}
      </Modal>
    </Stack>
  );
}

function FieldForm({ of, onDone }: { of: NamedUserField | null; onDone: (misfits: number) => void }) {
  const { params } = useEnvironment();
  const form = useOperationForm(own.defineField, {
    initial: {
      field: of?.name ?? '',
      description: of?.description ?? '',
      type: of?.type ?? 'text',
      choices: of?.choices ?? [],
      required: of?.required ?? false,
      seenBy: of?.seenBy ?? 'user',
      changedBy: of?.changedBy ?? 'user',
    },
    input: ({ field, description, choices, ...body }) => ({
      params: { ...params, field },
      body: { ...kept(of), ...body, ...(description ? { description } : {}), ...(body.type === 'choice' ? { choices } : {}) },
    }),
    onDone: ({ misfits }) => onDone(misfits),
  });
  const { getInputProps, values } = form.form;
  const who = [
    { value: 'user', label: 'The user, too' },
    { value: 'servers', label: 'Only the team and its servers' },
  ];
  return (
    <FormOf of={form} verb="Save">
      <TextInput label="Name" placeholder="club" required disabled={of !== null} {...getInputProps('field')} />
      <TextInput label="Description" {...getInputProps('description')} />
      <NativeSelect label="Type" data={TYPES} {...getInputProps('type')} />
      {values.type === 'choice' && <TagsInput label="Choices" {...getInputProps('choices')} />}
      <Switch label="Required" {...getInputProps('required', { type: 'checkbox' })} />
      <NativeSelect label="Seen by" data={who} {...getInputProps('seenBy')} />
      <NativeSelect label="Changed by" data={who} {...getInputProps('changedBy')} />
    </FormOf>
  );
}

/** Constraints that the form does not show stay as they are. */
function kept(of: NamedUserField | null) {
  if (!of) return {};
  const { name: _n, description: _d, choices: _c, ...rest } = of;
  return rest;
}
