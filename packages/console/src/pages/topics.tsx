/** Topics, and who follows them. */
import { Button, Group, Stack, Text, TextInput } from '@mantine/core';
import { actorWords, operations, type Topic } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN, useChange } from '../api.js';
import { Code, Empty, Facts, Moment } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useEnvironment } from '../environment.js';

const number = (name: 'devices' | 'users', label: string) => ({
  name,
  label,
  sortable: true,
  right: true,
  render: (topic: Topic) => <span className="mono">{count(topic[name])}</span>,
});

export function TopicsPage() {
  return (
    <ListPage
      title="Topics"
      hint="Names that devices and users follow; a notification can go to all followers"
      operation={operations.topics.list}
      {...OFTEN}
      label="Topics"
      initialSort="name"
      idOf={({ name }) => name}
      example="devices > 10 AND role IS NULL"
      empty={
        <Empty title="No topics yet">
          <Text>In an open environment the first follower creates a topic:</Text>
          <Code>{'PUT /app/v1/devices/{id}/topics/ridge-weather'}</Code>
        </Empty>
      }
      columns={[
        { name: 'name', label: 'Topic', sortable: true, render: ({ name }) => <span className="mono">{name}</span> },
        { name: 'title', label: 'Title', sortable: true, render: ({ title }) => title },
        { name: 'role', label: 'Only for role', sortable: true, render: ({ role }) => role },
        number('devices', 'Devices'),
        number('users', 'Users'),
        { name: 'createdAt', label: 'Created', sortable: true, render: ({ createdAt }) => <Moment at={createdAt} /> },
      ]}
      drawer={{
        title: 'Topic',
        render: (name, close, items) => {
          const topic = items.find((one) => one.name === name);
          return topic && <OneTopic topic={topic} onGone={close} />;
        },
      }}
    >
      <NewTopic />
    </ListPage>
  );
}

function NewTopic() {
  const { params } = useEnvironment();
  const put = useOperationForm(operations.topics.put, {
    initial: { topic: '' },
    input: ({ topic }) => ({ params: { ...params, topic }, body: {} }),
    onDone: () => put.form.reset(),
  });
  return (
    <FormOf of={put} verb="Add topic" row disabled={!put.form.values.topic}>
      <TextInput aria-label="Name of a new topic" placeholder="ridge-weather" {...put.form.getInputProps('topic')} />
    </FormOf>
  );
}

function OneTopic({ topic, onGone }: { topic: Topic; onGone: () => void }) {
  const { params, base } = useEnvironment();
  const at = { ...params, topic: topic.name };
  const remove = useChange(operations.topics.remove);
  const put = useOperationForm(operations.topics.put, {
    initial: { title: topic.title ?? '', role: topic.role ?? '' },
    input: ({ title, role }) => ({ params: at, body: { title: title || null, role: role || null } }),
  });
  return (
    <Stack>
      <Facts
        of={[
          ['Topic', <code key="t">{topic.name}</code>],
          ['Followed by', `${counted(topic.devices, 'device')} and ${counted(topic.users, 'user')}`],
          ['Created by', actorWords(topic.createdBy)],
          ['Created', <Moment key="m" at={topic.createdAt} />],
        ]}
      />
      <FormOf of={put} verb="Save">
        <TextInput label="Title" {...put.form.getInputProps('title')} />
        <TextInput label="Only users with this role may follow it" {...put.form.getInputProps('role')} />
      </FormOf>
      <Group>
        <Button variant="default" component={Link} to={`${base}/compose?topic=${encodeURIComponent(topic.name)}`}>
          Compose for its followers
        </Button>
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          question={`Delete topic ${topic.name}?`}
          consequence={`${counted(topic.devices, 'device')} and ${counted(topic.users, 'user')} no longer follow it.`}
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
