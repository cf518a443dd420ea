/** Channels: who may listen and publish, what was said last, who listens now. */
import { Button, Drawer, Group, JsonInput, NumberInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { actorWords, type Channel, operations, type OpenChannel } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { Code, count, Empty, Facts, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { useAddressState, usePlace } from '../place.js';

/** The rule a channel has before somebody says otherwise. */
const SIGNED_IN = "me('id') IS NOT NULL";
const LOOK_EVERY_MS = 5_000;

export function ChannelsPage() {
  const { params } = usePlace();
  const [openName, setOpen] = useAddressState('open');
  const [adding, setAdding] = useAddressState('add');
  const channels = useCall(operations.channels.list, { params }, OFTEN);
  return (
    <>
      <PageHead title="Channels" hint="Named streams that connected clients listen to and publish on">
        <Button size="xs" onClick={() => setAdding('1')}>
          Add a channel
        </Button>
        <FromCode
          same={{
            command: `orchard channel list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/channels`,
          }}
        />
      </PageHead>
      <Loaded of={channels}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No channels yet">
              <Text>In an open environment whoever comes first makes one, for everybody who is signed in:</Text>
              <Code>{'orchard.channel("huts/fellgate").publish({ fire: "lit" })'}</Code>
            </Empty>
          ) : (
            <ChannelTable items={items} onOpen={setOpen} />
          )
        }
      </Loaded>
      <Drawer opened={openName !== ''} onClose={() => setOpen(null)} position="right" size="lg" title="Channel">
        {openName && <OneChannel key={openName} name={openName} onGone={() => setOpen(null)} />}
      </Drawer>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add a channel">
        {adding && (
          <ChannelForm
            channel={null}
            onKept={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}

function ChannelTable({ items, onOpen }: { items: Channel[]; onOpen: (name: string) => void }) {
  return (
    <section className="listing" aria-label="Channels">
      <table>
        <thead>
          <tr>
            <th scope="col">Channel</th>
            <th scope="col" className="right">
              Listening now
            </th>
            <th scope="col" className="right">
              Messages kept
            </th>
            <th scope="col">May listen</th>
            <th scope="col">May publish</th>
          </tr>
        </thead>
        <tbody>
          {items.map(({ name, listening, messages, keep, rules }) => (
            <tr key={name}>
              <td>
                <button type="button" className="open mono" onClick={() => onOpen(name)}>
                  {name}
                </button>
              </td>
              <td className="right mono">{count(listening)}</td>
              <td className="right mono">
                {count(messages)} of {count(keep)}
              </td>
              <td className="mono">{rules.listen}</td>
              <td className="mono">{rules.publish}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function OneChannel({ name, onGone }: { name: string; onGone: () => void }) {
  const { params, base } = usePlace();
  const at = { ...params, channel: name };
  const channel = useCall(operations.channels.read, { params: at }, { refetchInterval: LOOK_EVERY_MS });
  const remove = useChange(operations.channels.remove, ['channels.']);
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
              ['Made by', actorWords(open.createdBy)],
              ['Made', <Moment key="m" at={open.createdAt} />],
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
          <Title order={3}>Who may, and how much is kept</Title>
          <ChannelForm channel={open} onKept={() => undefined} />
          <ConfirmedButton
            label="Delete"
            verb="Delete"
            question={`Delete channel ${name}?`}
            consequence={`Its ${count(open.messages)} messages go with it.`}
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
  const { params } = usePlace();
  const [data, setData] = useState('{}');
  const [title, setTitle] = useState('');
  const [wrong, setWrong] = useState(false);
  const publish = useChange(operations.channels.publishManaged, ['channels.']);
  function submit(): void {
    try {
      const body = { data: JSON.parse(data), ...(title ? { notify: { title } } : {}) };
      setWrong(false);
      publish.mutate({ params: { ...params, channel: name }, body });
    } catch {
      setWrong(true);
    }
  }
  return (
    <Stack gap="xs">
      <JsonInput
        label="Publish a message"
        autosize
        minRows={2}
        value={data}
        onChange={setData}
        error={wrong ? 'This is not JSON.' : null}
      />
      <Group align="flex-end" gap="xs">
        <TextInput
          label="Title of a notification to followers who do not listen"
          placeholder="none"
          style={{ flex: 1 }}
          value={title}
          onChange={({ currentTarget }) => setTitle(currentTarget.value)}
        />
        <Button variant="default" loading={publish.isPending} onClick={submit}>
          Publish
        </Button>
      </Group>
      <Trouble error={publish.error} />
    </Stack>
  );
}

/** Rules and how much is kept; with a name, where there is no channel yet. */
function ChannelForm({ channel, onKept }: { channel: Channel | null; onKept: (name: string) => void }) {
  const { params } = usePlace();
  const [name, setName] = useState(channel?.name ?? '');
  const [listen, setListen] = useState(channel?.rules.listen ?? SIGNED_IN);
  const [publish, setPublish] = useState(channel?.rules.publish ?? SIGNED_IN);
  const [keep, setKeep] = useState<number | string>(channel?.keep ?? 100);
  const put = useChange(operations.channels.put, ['channels.']);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate(
          { params: { ...params, channel: name }, body: { rules: { listen, publish }, keep: Number(keep) } },
          { onSuccess: () => onKept(name) },
        );
      }}
    >
      <Stack gap="sm">
        {!channel && (
          <TextInput
            label="Name"
            required
            placeholder="huts/fellgate"
            value={name}
            onChange={({ currentTarget }) => setName(currentTarget.value)}
          />
        )}
        <TextInput
          label="Who may listen"
          description="CQL2 over channel, me('id') and me('roles'); TRUE lets everyone"
          required
          classNames={{ input: 'mono' }}
          value={listen}
          onChange={({ currentTarget }) => setListen(currentTarget.value)}
        />
        <TextInput
          label="Who may publish"
          required
          classNames={{ input: 'mono' }}
          value={publish}
          onChange={({ currentTarget }) => setPublish(currentTarget.value)}
        />
        <NumberInput label="Messages kept for those who come later" min={0} max={1000} value={keep} onChange={setKeep} />
        <Trouble error={put.error} />
        <Group>
          <Button type="submit" loading={put.isPending}>
            {channel ? 'Save' : 'Add'}
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
