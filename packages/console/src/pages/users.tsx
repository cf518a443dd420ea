/** People who have an account in this environment. */
import { Anchor, Badge, Button, Group, JsonInput, Stack, Switch, TagsInput, Text, TextInput } from '@mantine/core';
import { operations, type User } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Empty, Facts, Loaded, Moment } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { objectOf } from '../parts/json.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { ChosenPassword } from '../parts/password.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { UserAccess } from '../people/userAccess.js';
import { UserLately } from '../people/userLately.js';

const NEW = 'new';

export function UsersPage() {
  const [, setOpen] = useAddressState('open');
  return (
    <ListPage
      title="Users"
      hint="People with an account in this environment"
      operation={operations.users.list}
      label="Users"
      idOf={({ id }) => id}
      example="email LIKE '%@hikers.example'"
      presets={[
        { label: 'Wardens', filter: 'roles LIKE \'%"warden"%\'' },
        { label: 'Disabled', filter: 'disabled = TRUE' },
        { label: 'Never signed in', filter: 'lastSeenAt IS NULL' },
        { label: 'With a password', filter: "A_CONTAINS(ways, ('password'))" },
        { label: 'Guests', filter: 'email IS NULL' },
      ]}
      empty={
        <Empty title="Nobody has signed up yet">
          <Text>An app creates accounts with POST /app/v1/users. You can create one here too.</Text>
        </Empty>
      }
      columns={[
        { name: 'email', label: 'E-mail', sortable: true, render: ({ email }) => email },
        { name: 'name', label: 'Name', sortable: true, render: ({ name }) => name },
        { name: 'roles', label: 'Roles', render: (user) => <Roles of={user} /> },
        { name: 'createdAt', label: 'Signed up', sortable: true, render: ({ createdAt }) => <Moment at={createdAt} /> },
        { name: 'lastSeenAt', label: 'Last signed in', sortable: true, render: ({ lastSeenAt }) => <Moment at={lastSeenAt} /> },
      ]}
      drawer={{
        title: 'User',
        render: (id, close) => (id === NEW ? <NewUser onCreated={setOpen} /> : <OneUser id={id} onGone={close} />),
      }}
    >
      <Button onClick={() => setOpen(NEW)}>Add user</Button>
    </ListPage>
  );
}

function Roles({ of: { roles, disabled } }: { of: User }) {
  return (
    <>
      {roles.join(', ')}
      {disabled && (
        <Badge ml={6} size="xs" variant="outline" color="persimmon" c="var(--care)">
          disabled
        </Badge>
      )}
    </>
  );
}

function NewUser({ onCreated }: { onCreated: (id: string) => void }) {
  const { params } = useEnvironment();
  const create = useOperationForm(operations.users.create, {
    initial: { email: '', name: '', password: '' },
    input: ({ email, name, password }) => ({ params, body: { email, password, ...(name ? { name } : {}) } }),
    onDone: ({ id }) => onCreated(id),
  });
  return (
    <FormOf of={create} verb="Add user">
      <TextInput data-autofocus label="E-mail address" type="email" required {...create.form.getInputProps('email')} />
      <TextInput label="Name" {...create.form.getInputProps('name')} />
      <ChosenPassword label="First password" {...create.form.getInputProps('password')} />
    </FormOf>
  );
}

function OneUser({ id, onGone }: { id: string; onGone: () => void }) {
  const { params } = useEnvironment();
  const user = useCall(operations.users.read, { params: { ...params, user: id } });
  return <Loaded of={user}>{(current) => <UserForm key={current.updatedAt} user={current} onGone={onGone} />}</Loaded>;
}

/** Members that were taken out of an object are null in a merge patch (RFC 7396 section 1). */
const mergePatch = (before: object, after: object) => ({
  ...Object.fromEntries(Object.keys(before).map((key) => [key, null])),
  ...after,
});

function UserForm({ user, onGone }: { user: User; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, user: user.id };
  const remove = useChange(operations.users.remove, [operations.users, operations.devices]);
  const patch = useOperationForm(operations.users.patch, {
    initial: { name: user.name ?? '', roles: user.roles, disabled: user.disabled, data: JSON.stringify(user.data, null, 2) },
    input: ({ name, roles, disabled, data }) => {
      const fields = objectOf(data);
      return { params: at, body: { name: name || null, roles, disabled, data: (fields ? mergePatch(user.data, fields) : data) as never } };
    },
  });
  const { getInputProps } = patch.form;
  return (
    <Stack>
      <UserFacts user={user} />
      <FormOf of={patch} verb="Save">
        <TextInput label="Name" {...getInputProps('name')} />
        <TagsInput label="Roles" description="Labels that access rules can test" {...getInputProps('roles')} />
        <JsonInput
          label="User fields"
          description="Whatever the app keeps about the user"
          validationError="Must be a JSON object."
          autosize
          minRows={2}
          {...getInputProps('data')}
        />
        <Switch label="Disabled: sessions end, signing in is refused" {...getInputProps('disabled', { type: 'checkbox' })} />
      </FormOf>
      <UserLately user={user.id} />
      <UserAccess user={user.id} />
      <Group>
        <ConfirmedButton
          label="Delete user"
          verb="Delete"
          question="Delete this user?"
          consequence={`The account of ${user.email ?? 'this guest'} is deleted for good. Records they own stay.`}
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}

function UserFacts({ user }: { user: User }) {
  const { base } = useEnvironment();
  const filter = encodeURIComponent(`userId = '${user.id}'`);
  return (
    <Facts
      of={[
        ['E-mail', user.email ? `${user.email}${user.emailConfirmedAt ? ', confirmed' : ', not confirmed'}` : 'none: a guest'],
        ['Phone', user.phone && `${user.phone}${user.phoneVerifiedAt ? ', verified' : ', not verified'}`],
        [
          'Id',
          <span key="i" className="mono">
            {user.id}
          </span>,
        ],
        ['Signed up', <Moment key="c" at={user.createdAt} />],
        ['Last signed in', <Moment key="l" at={user.lastSeenAt} />],
        [
          'See also',
          <Group key="k" gap="md">
            <Anchor component={Link} to={`${base}/devices?filter=${filter}`}>
              devices
            </Anchor>
            <Anchor component={Link} to={`${base}/requests?filter=${filter}`}>
              requests
            </Anchor>
            <Anchor component={Link} to={`${base}/compose?user=${user.id}`}>
              send a notification
            </Anchor>
          </Group>,
        ],
      ]}
    />
  );
}
