/** Channels: rules, latest messages and current listeners. */
import { Button, Drawer, JsonInput, NumberInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { actorWords, type Channel, operations, type OpenChannel } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { Code, Empty, Facts, Loaded, Moment } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { objectOf } from '../parts/json.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TurnServers } from '../channels/turnServers.js';
import { useAddressState, useEnvironment } from '../environment.js';

/** The default rule of a channel. */
const SIGNED_IN = "me('id') IS NOT NULL";
const LOOK_EVERY_MS = 5_000;

export function ChannelsPage() {
  const [, setOpen] = useAddressState('open');
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Channels"
        hint="Named streams that connected clients listen to and publish on"
        operation={operations.channels.list}
        {...OFTEN}
        label="Channels"
        idOf={({ name }) => name}
        empty={
          <Empty title="No channels yet">
            <Text>In an open environment the first caller creates a channel, for everybody who is signed in:</Text>
            <Code>{'orchard.channel("huts/fellgate").publish({ fire: "lit" })'}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Channel', render: ({ name }) => <span className="mono">{name}</span> },
          {
            name: 'listening',
            label: 'Listening now',
            right: true,
            render: ({ listening }) => <span className="mono">{count(listening)}</span>,
          },
          {
            name: 'messages',
            label: 'Messages kept',
            right: true,
            render: ({ messages, keep }) => (
              <span className="mono">
                {count(messages)} of {count(keep)}
              </span>
            ),
          },
          { name: 'listen', label: 'May listen', render: ({ rules }) => <span className="mono">{rules.listen}</span> },
          { name: 'publish', label: 'May publish', render: ({ rules }) => <span className="mono">{rules.publish}</span> },
        ]}
        drawer={{ title: 'Channel', render: (name, close) => <OneChannel key={name} name={name} onGone={close} /> }}
      >
        <Button variant="default" onClick={() => setAdding('calls')}>
          Calls between people
        </Button>
        <Button onClick={() => setAdding('1')}>Add channel</Button>
      </ListPage>
      <Drawer opened={adding === 'calls'} onClose={() => setAdding(null)} position="right" size="lg" title="Calls between people">
        {adding === 'calls' && <TurnServers />}
      </Drawer>
      <Drawer opened={adding === '1'} onClose={() => setAdding(null)} position="right" size="lg" title="Add channel">
        {adding === '1' && (
          <ChannelForm
            channel={null}
            onSaved={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}

function OneChannel({ name, onGone }: { name: string; onGone: () => void }) {
  const { params, base } = useEnvironment();
  const at = { ...params, channel: name };
  const channel = useCall(operations.channels.read, { params: at }, { refetchInterval: LOOK_EVERY_MS });
  const remove = useChange(operations.channels.remove);
  return (
    <Loaded of={channel}>
      {(open: OpenChannel) => (
        <Stack gap="lg">
          <Facts
            of={[
              ['Channel', <code key="c">{open.name}</code>],
              [
                'Listening now',
                open.presence.listening
                  ? `${count(open.presence.listening)}, ${count(open.presence.users.length)} of them signed in`
                  : 'nobody',
              ],
              ['Created by', actorWords(open.createdBy)],
              ['Created', <Moment key="m" at={open.createdAt} />],
            ]}
          />
          {open.presence.users.length > 0 && (
            <Text size="sm">
              {open.presence.users.map(({ userId }) => (
                <Link key={userId} to={`${base}/users?open=${userId}`} style={{ marginRight: 8 }}>
                  …{userId.slice(-8)}
                </Link>
              ))}
            </Text>
          )}
          <Latest messages={open.latest} />
          <Publish name={name} />
          <Title order={3}>Rules and kept messages</Title>
          <ChannelForm channel={open} onSaved={() => undefined} />
          <ConfirmedButton
            label="Delete"
            verb="Delete"
            question={`Delete channel ${name}?`}
            consequence={`Its ${count(open.messages)} messages are deleted too.`}
            change={remove}
            onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
          />
        </Stack>
      )}
    </Loaded>
  );
}

function Latest({ messages }: { messages: OpenChannel['latest'] }) {
  if (messages.length === 0) return <Text size="sm">Nothing was published on it yet.</Text>;
  return (
    <section className="listing" aria-label="Latest messages">
      <table>
        <tbody>
          {messages.toReversed().map(({ number, data, sender, at }) => (
            <tr key={number}>
              <td>
                <Moment at={at} />
              </td>
              <td className="mono whole" style={{ overflowWrap: 'anywhere' }}>
                {JSON.stringify(data)}
              </td>
              <td>{actorWords(sender)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Publish({ name }: { name: string }) {
  const { params } = useEnvironment();
  const publish = useOperationForm(operations.channels.publishManaged, {
    initial: { data: '{}', title: '' },
    input: ({ data, title }) => ({
      params: { ...params, channel: name },
      body: { data: (objectOf(data) ?? data) as never, ...(title ? { notify: { title } } : {}) },
    }),
  });
  return (
    <FormOf of={publish} verb="Publish">
      <JsonInput
        validationError="Must be a JSON object."
        label="Publish a message"
        autosize
        minRows={2}
        {...publish.form.getInputProps('data')}
      />
      <TextInput
        label="Title of a notification to followers who do not listen"
        placeholder="none"
        {...publish.form.getInputProps('title')}
      />
    </FormOf>
  );
}

/** Rules and number of kept messages; also the name, for a new channel. */
function ChannelForm({ channel, onSaved }: { channel: Channel | null; onSaved: (name: string) => void }) {
  const { params } = useEnvironment();
  const put = useOperationForm(operations.channels.put, {
    initial: {
      channel: channel?.name ?? '',
      rules: channel?.rules ?? { listen: SIGNED_IN, publish: SIGNED_IN },
      keep: channel?.keep ?? 100,
    },
    input: ({ channel: name, rules, keep }) => ({ params: { ...params, channel: name }, body: { rules, keep: Number(keep) } }),
    onDone: ({ name }) => onSaved(name),
  });
  const { getInputProps } = put.form;
  return (
    <FormOf of={put} verb={channel ? 'Save' : 'Add channel'}>
      {!channel && <TextInput label="Name" required placeholder="huts/fellgate" {...getInputProps('channel')} />}
      <TextInput
        label="Who may listen"
        description="CQL2 over channel, me('id') and me('roles'); TRUE allows everyone"
        required
        classNames={{ input: 'mono' }}
        {...getInputProps('rules.listen')}
      />
      <TextInput label="Who may publish" required classNames={{ input: 'mono' }} {...getInputProps('rules.publish')} />
      <NumberInput label="Messages kept for later listeners" min={0} max={1000} {...getInputProps('keep')} />
    </FormOf>
  );
}
