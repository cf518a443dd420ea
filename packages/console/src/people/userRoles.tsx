/** Roles of users: what each is for, who has it by a rule or by a group, and a form for another one. */
import { Anchor, Button, Group, Modal, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { operations, type UserRole } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Loaded, Trouble } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.userRoles;

export function UserRoles() {
  const { params, details } = useEnvironment();
  const roles = useCall(own.list, { params });
  const remove = useChange(own.remove);
  const [edited, setEdited] = useState<UserRole | 'new' | null>(null);
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  return (
    <Stack>
      <Trouble error={remove.error} />
      <Loaded of={roles}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No roles">
              <Text>A role is a label of a user that access rules test. It is given by hand, by a rule, or by a group at a provider.</Text>
            </Empty>
          ) : (
            <div className="listing" style={{ borderTop: 0 }}>
              <table>
                <TableHead columns={['Role', 'Users', 'By rule', 'By group', '']} />
                <tbody>
                  {items.map((role) => (
                    <RoleRow
                      key={role.name}
                      of={role}
                      onEdit={mayChange ? () => setEdited(role) : null}
                      onRemove={mayChange && role.isDefined ? () => remove.mutate({ params: { ...params, role: role.name } }) : null}
                    />
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
            Describe a role
          </Button>
        </Group>
      )}
      <Modal opened={edited !== null} onClose={() => setEdited(null)} title={edited === 'new' ? 'Describe a role' : 'Change the role'}>
        {edited && <RoleForm of={edited === 'new' ? null : edited} onDone={() => setEdited(null)} />}
      </Modal>
    </Stack>
  );
}

type Row = { of: UserRole; onEdit: (() => void) | null; onRemove: (() => void) | null };

function RoleRow({ of: { name, description, users, rule, groups, isDefined }, onEdit, onRemove }: Row) {
  const { base } = useEnvironment();
  const filter = encodeURIComponent(`roles LIKE '%"${name}"%'`);
  return (
    <tr>
      <td>
        <b>{name}</b>
        <Text size="sm" c="dimmed">
          {isDefined ? description : 'Not described yet'}
        </Text>
      </td>
      <td className="right">
        <Anchor component={Link} to={`${base}/users?filter=${filter}`}>
          {users.toLocaleString('en')}
        </Anchor>
      </td>
      <td className="mono">{rule}</td>
      <td>{groups.map(({ way, group }) => `${group} (${way})`).join(', ')}</td>
      <td className="right">
        <Group gap="xs" justify="flex-end" wrap="nowrap">
          {onEdit && (
            <Button size="compact-xs" variant="default" onClick={onEdit} aria-label={`Change ${name}`}>
              Change
            </Button>
          )}
          {onRemove && (
            <Button size="compact-xs" variant="default" onClick={onRemove} aria-label={`Take ${name} back`}>
              Take back
            </Button>
          )}
        </Group>
      </td>
    </tr>
  );
}

function RoleForm({ of, onDone }: { of: UserRole | null; onDone: () => void }) {
  const { params } = useEnvironment();
  const form = useOperationForm(own.put, {
    initial: { role: of?.name ?? '', description: of?.description ?? '', rule: of?.rule ?? '' },
    input: ({ role, description, rule }) => ({ params: { ...params, role }, body: { description, rule: rule.trim() || null } }),
    onDone,
  });
  const { getInputProps } = form.form;
  return (
    <FormOf of={form} verb="Save">
      <TextInput label="Name" placeholder="warden" required disabled={of !== null} {...getInputProps('role')} />
      <TextInput label="What it is for" {...getInputProps('description')} />
      <Textarea
        label="Rule"
        description="Whoever fits it has the role. It asks user fields that only servers change, and email once it is confirmed. Empty: by hand or by group."
        placeholder="email LIKE '%@quillfell.example'"
        autosize
        classNames={{ input: 'mono' }}
        {...getInputProps('rule')}
      />
    </FormOf>
  );
}
