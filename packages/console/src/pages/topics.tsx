/** Topics, and who follows them. */
import { Button, Drawer, Group, Stack, Text, TextInput } from '@mantine/core';
import { actorWords, operations, type Topic } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { Code, count, Empty, Facts, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';

export function TopicsPage() {
  const { params } = usePlace();
  const state = useListState('name');
  const [openName, setOpen] = useAddressState('open');
  const topics = useCall(operations.topics.list, { params, query: { ...state.query, limit: 100 } }, OFTEN);
  const open = topics.data?.items.find(({ name }) => name === openName);
  return (
    <>
      <PageHead title="Topics" hint="Names that devices and users follow, to be reached together">
        <NewTopic />
        <FromCode
          same={{
            command: `orchard topic list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/topics`,
          }}
        />
      </PageHead>
      <Listing
        label="Topics"
        state={state}
        answer={topics}
        idOf={({ name }) => name}
        openId={openName}
        onOpen={setOpen}
        example="devices > 10 AND role IS NULL"
        empty={
          <Empty title="No topics yet">
            <Text>In an open environment the first follower makes one:</Text>
            <Code>{'PUT /app/v1/devices/{id}/topics/ridge-weather'}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Topic', sortable: true, render: ({ name }) => <span className="mono">{name}</span> },
          { name: 'title', label: 'Title', sortable: true, render: ({ title }) => title },
          { name: 'role', label: 'Only for role', sortable: true, render: ({ role }) => role },
          {
            name: 'devices',
            label: 'Devices',
            sortable: true,
            right: true,
            render: ({ devices }) => <span className="mono">{count(devices)}</span>,
          },
          {
            name: 'users',
            label: 'Users',
            sortable: true,
            right: true,
            render: ({ users }) => <span className="mono">{count(users)}</span>,
          },
          { name: 'createdAt', label: 'Made', sortable: true, render: ({ createdAt }) => <Moment at={createdAt} /> },
        ]}
      />
      <Drawer opened={Boolean(open)} onClose={() => setOpen(null)} position="right" size="lg" title="Topic">
        {open && <OneTopic topic={open} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}

function NewTopic() {
  const { params } = usePlace();
  const [name, setName] = useState('');
  const put = useChange(operations.topics.put, ['topics.']);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate({ params: { ...params, topic: name }, body: {} }, { onSuccess: () => setName('') });
      }}
    >
      <Group gap="xs">
        <TextInput
          size="xs"
          aria-label="Name of a new topic"
          placeholder="ridge-weather"
          value={name}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
        />
        <Button size="xs" type="submit" disabled={!name} loading={put.isPending}>
          Add a topic
        </Button>
      </Group>
      <Trouble error={put.error} />
    </form>
  );
}

function OneTopic({ topic, onGone }: { topic: Topic; onGone: () => void }) {
  const { params, base } = usePlace();
  const at = { ...params, topic: topic.name };
  const [title, setTitle] = useState(topic.title ?? '');
  const [role, setRole] = useState(topic.role ?? '');
  const put = useChange(operations.topics.put, ['topics.']);
  const remove = useChange(operations.topics.remove, ['topics.']);
  return (
    <Stack>
      <Facts
        of={[
          ['Topic', <code key="t">{topic.name}</code>],
          ['Followed by', `${count(topic.devices)} devices and ${count(topic.users)} users`],
          ['Made by', actorWords(topic.createdBy)],
          ['Made', <Moment key="m" at={topic.createdAt} />],
        ]}
      />
      <TextInput label="Title" value={title} onChange={({ currentTarget }) => setTitle(currentTarget.value)} />
      <TextInput
        label="Only users with the role may follow it"
        value={role}
        onChange={({ currentTarget }) => setRole(currentTarget.value)}
      />
      <Trouble error={put.error} />
      <Group>
        <Button loading={put.isPending} onClick={() => put.mutate({ params: at, body: { title: title || null, role: role || null } })}>
          Save
        </Button>
        <Button variant="default" component={Link} to={`${base}/compose?topic=${encodeURIComponent(topic.name)}`}>
          Compose for it
        </Button>
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          question={`Delete topic ${topic.name}?`}
          consequence={`${count(topic.devices + topic.users)} devices and users follow it no more.`}
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
