/** People who have an account in this environment. */
import { Anchor, Badge, Button, Drawer, Group, JsonInput, Stack, Switch, TagsInput, Text, TextInput } from '@mantine/core';
import { operations, type User } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Empty, Facts, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ChosenPassword } from '../parts/password.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';

const NEW = 'new';

export function UsersPage() {
  const { params } = usePlace();
  const state = useListState();
  const [openId, setOpen] = useAddressState('open');
  const users = useCall(operations.users.list, { params, query: { ...state.query, limit: 40 } });
  return (
    <>
      <PageHead title="Users" hint="People with an account in this environment">
        <FromCode
          same={{
            command: `orchard user list --app ${params.app} --env ${params.environment}${state.filter ? ` --filter "${state.filter}"` : ''}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/users`,
          }}
        />
        <Button onClick={() => setOpen(NEW)}>New user</Button>
      </PageHead>
      <Listing
        label="Users"
        state={state}
        answer={users}
        idOf={({ id }) => id}
        openId={openId}
        onOpen={setOpen}
        example="email LIKE '%@hikers.example'"
        presets={[
          { label: 'Wardens', filter: 'roles LIKE \'%"warden"%\'' },
          { label: 'Disabled', filter: 'disabled = TRUE' },
          { label: 'Never signed in', filter: 'lastSeenAt IS NULL' },
        ]}
        empty={
          <Empty title="Nobody has signed up yet">
            <Text>An app makes accounts with POST /app/v1/users. You can make one here too.</Text>
          </Empty>
        }
        columns={[
          { name: 'email', label: 'E-mail', sortable: true, render: ({ email }) => email },
          { name: 'name', label: 'Name', sortable: true, render: ({ name }) => name },
          {
            name: 'roles',
            label: 'Roles',
            render: ({ roles, disabled }) => (
              <>
                {roles.join(', ')}
                {disabled && (
                  <Badge ml={6} size="xs" variant="outline" color="persimmon" c="var(--care)">
                    disabled
                  </Badge>
                )}
              </>
            ),
          },
          { name: 'createdAt', label: 'Signed up', sortable: true, render: ({ createdAt }) => <Moment at={createdAt} /> },
          { name: 'lastSeenAt', label: 'Last signed in', sortable: true, render: ({ lastSeenAt }) => <Moment at={lastSeenAt} /> },
        ]}
      />
      <Drawer opened={openId !== ''} onClose={() => setOpen(null)} position="right" size="lg" title={openId === NEW ? 'New user' : 'User'}>
        {openId === NEW && <NewUser onMade={setOpen} />}
        {openId && openId !== NEW && <OneUser id={openId} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}

function NewUser({ onMade }: { onMade: (id: string) => void }) {
  const { params } = usePlace();
  const [email, setEmail] = useState('');
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const create = useChange(operations.users.create, ['users.']);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        create.mutate({ params, body: { email, password, ...(name ? { name } : {}) } }, { onSuccess: ({ id }) => onMade(id) });
      }}
    >
      <Stack gap="sm">
        <TextInput
          data-autofocus
          label="E-mail address"
          type="email"
          required
          value={email}
          onChange={({ currentTarget }) => setEmail(currentTarget.value)}
        />
        <TextInput label="Name" value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
        <ChosenPassword label="First password" value={password} onChange={setPassword} />
        <Trouble error={create.error} />
        <Group justify="flex-end">
          <Button type="submit" loading={create.isPending}>
            Create account
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

function OneUser({ id, onGone }: { id: string; onGone: () => void }) {
  const { params } = usePlace();
  const user = useCall(operations.users.read, { params: { ...params, user: id } });
  return <Loaded of={user}>{(current) => <UserForm key={current.updatedAt} user={current} onGone={onGone} />}</Loaded>;
}

function UserForm({ user, onGone }: { user: User; onGone: () => void }) {
  const { params, base } = usePlace();
  const at = { ...params, user: user.id };
  const [name, setName] = useState(user.name ?? '');
  const [roles, setRoles] = useState(user.roles);
  const [disabled, setDisabled] = useState(user.disabled);
  const [data, setData] = useState(JSON.stringify(user.data, null, 2));
  const [wrong, setWrong] = useState<string | null>(null);
  const patch = useChange(operations.users.patch, ['users.']);
  const remove = useChange(operations.users.remove, ['users.', 'devices.']);
  const filter = encodeURIComponent(`userId = '${user.id}'`);
  function save(): void {
    try {
      const parsed = JSON.parse(data || '{}');
      setWrong(null);
      // Members that were taken out are null in a merge patch.
      const gone = Object.fromEntries(
        Object.keys(user.data)
          .filter((key) => !(key in parsed))
          .map((key) => [key, null]),
      );
      patch.mutate({ params: at, body: { name: name || null, roles, disabled, data: { ...gone, ...parsed } } });
    } catch {
      setWrong('Not a JSON object.');
    }
  }
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save();
      }}
    >
      <Stack>
        <Facts
          of={[
            ['E-mail', user.email],
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
              'Look at',
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
        <TextInput label="Name" value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
        <TagsInput label="Roles" description="Labels that access rules can test" value={roles} onChange={setRoles} />
        <JsonInput
          label="Data"
          description="Whatever the app keeps about the user"
          autosize
          minRows={2}
          value={data}
          onChange={setData}
          error={wrong}
        />
        <Switch
          label="Disabled: sessions end, signing in is refused"
          checked={disabled}
          onChange={({ currentTarget }) => setDisabled(currentTarget.checked)}
        />
        <Trouble error={patch.error} />
        <Group justify="space-between">
          <ConfirmedButton
            label="Delete this user"
            verb="Delete"
            question="Delete this user?"
            consequence={`The account of ${user.email} goes for good. Records they own stay.`}
            change={remove}
            onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
          />
          <Button type="submit" loading={patch.isPending}>
            Save
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
