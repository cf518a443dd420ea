/** Broadcasts: live video and audio of devices, who watches, and what was kept. */
import { Anchor, Button, Drawer, Group, NumberInput, Stack, Switch, Text, TextInput, Title } from '@mantine/core';
import { type BroadcastDocument, type BroadcastSettings, operations } from '@orchard/contract';
import { lazy, Suspense, useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, counted } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';

const own = operations.managedBroadcasts;
// The player is large, and only wanted when something is watched.
const Player = lazy(() => import('../broadcasts/player.js').then(({ Player: component }) => ({ default: component })));
const STATES: Record<BroadcastDocument['state'], string> = { waiting: 'waiting', live: 'live', ended: 'ended' };

export function BroadcastsPage() {
  const { params } = useEnvironment();
  const [panel, setPanel] = useAddressState('panel');
  return (
    <>
      <ListPage
        title="Broadcasts"
        hint="Live video and audio of devices, watched by rule"
        operation={own.list}
        refetchInterval={2_000}
        label="Broadcasts"
        idOf={({ id }) => id}
        empty={
          <Empty title="No broadcast yet">
            <Text>
              An app begins one with POST /app/v1/broadcasts, and sends MPEG-TS, MP4 or pieces of a MediaRecorder to the address it gets.
            </Text>
            <Code>{`ffmpeg -re -i camera.mp4 -c copy -f mpegts - | orchard broadcast record cameras/col - --app ${params.app} --env ${params.environment}`}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Broadcast', render: ({ name }) => name },
          { name: 'title', label: 'Title', render: ({ title }) => title || '–' },
          {
            name: 'state',
            label: 'State',
            render: ({ state, trouble }) => <span className={trouble ? 'care' : undefined}>{STATES[state]}</span>,
          },
          {
            name: 'kbits',
            label: 'kbit/s',
            right: true,
            render: ({ kbits }) => <span className="mono">{kbits ? count(kbits) : '–'}</span>,
          },
          { name: 'viewers', label: 'Viewers', right: true, render: ({ viewers }) => <span className="mono">{count(viewers)}</span> },
          { name: 'startedAt', label: 'Since', render: ({ startedAt }) => <Moment at={startedAt} /> },
          { name: 'recording', label: 'Kept', render: ({ recording, record }) => (recording ? 'yes' : record ? 'when it ends' : 'no') },
        ]}
        drawer={{ title: 'Broadcast', size: 'lg', render: (id, close) => <OneBroadcast key={id} id={id} onGone={close} /> }}
      >
        <Button variant="default" onClick={() => setPanel('settings')}>
          Rules and limits
        </Button>
        <Button onClick={() => setPanel('new')}>New broadcast</Button>
      </ListPage>
      <Drawer opened={panel === 'new'} onClose={() => setPanel(null)} position="right" size="lg" title="New broadcast">
        {panel === 'new' && <NewBroadcast />}
      </Drawer>
      <Drawer opened={panel === 'settings'} onClose={() => setPanel(null)} position="right" size="lg" title="Rules and limits">
        {panel === 'settings' && <SettingsOf onSaved={() => setPanel(null)} />}
      </Drawer>
    </>
  );
}

function OneBroadcast({ id, onGone }: { id: string; onGone: () => void }) {
  const { params, base } = useEnvironment();
  const at = { params: { ...params, id } };
  const answer = useCall(own.read, at, { refetchInterval: 2_000 });
  const viewers = useCall(own.viewers, at, { refetchInterval: 4_000 });
  const end = useChange(own.end);
  const remove = useChange(own.remove);
  return (
    <Loaded of={answer}>
      {(one) => (
        <Stack gap="md">
          <Title order={2}>{one.title || one.name}</Title>
          {one.startedAt && (one.state !== 'ended' || !one.recording) && (
            <Suspense fallback={null}>
              <Player id={id} label={`Live picture of ${one.name}`} />
            </Suspense>
          )}
          {one.trouble && (
            <Text size="sm" className="care">
              {one.trouble}
            </Text>
          )}
          <Facts
            of={[
              ['Name', one.name],
              ['State', STATES[one.state]],
              ['Arrives', one.kbits > 0 ? `${count(one.kbits)} kbit/s` : 'nothing now'],
              [
                'Holds',
                one.video === null
                  ? null
                  : [one.video && `video ${one.width} × ${one.height}`, one.audio && 'audio'].filter(Boolean).join(', '),
              ],
              ['Connected', counted(one.runs, 'time')],
              ['Began', <Moment key="s" at={one.startedAt} />],
              ['Ended', one.endedAt && <Moment key="e" at={one.endedAt} />],
              [
                'Kept as',
                one.recording ? (
                  <Anchor
                    key="r"
                    href={`${base}/files?folder=${encodeURIComponent(one.recording.slice(0, one.recording.lastIndexOf('/')))}&open=${encodeURIComponent(one.recording)}`}
                  >
                    {one.recording}
                  </Anchor>
                ) : one.record ? (
                  'a file, when it ends'
                ) : null,
              ],
              [
                'Viewers',
                viewers.data ? `${count(viewers.data.viewers)}, ${counted(viewers.data.users.length, 'signed-in user')} among them` : null,
              ],
            ]}
          />
          <Group>
            {one.state === 'ended' ? (
              <ConfirmedButton
                label="Forget"
                verb="Forget"
                question={`Forget ${one.name}?`}
                consequence="It is not listed any more. A recording of it stays."
                change={remove}
                onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
              />
            ) : (
              <ConfirmedButton
                label="End"
                verb="End broadcast"
                question={`End ${one.name}?`}
                consequence="Its device cannot send any more, and viewers see its end."
                change={end}
                onConfirm={(done) => end.mutate(at, { onSuccess: done })}
              />
            )}
          </Group>
        </Stack>
      )}
    </Loaded>
  );
}

function NewBroadcast() {
  const { params } = useEnvironment();
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const [record, setRecord] = useState(true);
  const begin = useChange(own.begin);
  return (
    <Stack gap="sm">
      <TextInput
        label="Name"
        required
        placeholder="cameras/hollow-col"
        value={name}
        onChange={({ currentTarget }) => setName(currentTarget.value)}
      />
      <TextInput label="Title" placeholder="The col" value={title} onChange={({ currentTarget }) => setTitle(currentTarget.value)} />
      <Switch label="Keep it as a file when it ends" checked={record} onChange={({ currentTarget }) => setRecord(currentTarget.checked)} />
      <Trouble error={begin.error} />
      <Group>
        <Button
          disabled={!name.trim()}
          loading={begin.isPending}
          onClick={() => begin.mutate({ params, body: { name: name.trim(), title, record } })}
        >
          Begin
        </Button>
      </Group>
      {begin.data && (
        <>
          <Text size="sm">Send to this address; it is not shown again.</Text>
          <Code>{`ffmpeg -re -i camera.mp4 -c:v libx264 -preset veryfast -c:a aac -f mpegts -method POST '${begin.data.ingest.address}'`}</Code>
        </>
      )}
    </Stack>
  );
}

function SettingsOf({ onSaved }: { onSaved: () => void }) {
  const { params } = useEnvironment();
  const answer = useCall(own.settings, { params });
  return <Loaded of={answer}>{(settings) => <SettingsForm settings={settings} onSaved={onSaved} />}</Loaded>;
}

function SettingsForm({ settings, onSaved }: { settings: BroadcastSettings; onSaved: () => void }) {
  const { params } = useEnvironment();
  const [values, setValues] = useState<Record<string, string | number>>({
    ...settings,
    keepRecordingsDays: settings.keepRecordingsDays ?? '',
  });
  const change = useChange(own.changeSettings);
  const text = (name: 'send' | 'watch', label: string) => (
    <TextInput
      label={label}
      value={String(values[name])}
      onChange={({ currentTarget }) => setValues({ ...values, [name]: currentTarget.value })}
      classNames={{ input: 'mono' }}
    />
  );
  const number = (name: keyof BroadcastSettings, label: string, placeholder = '') => (
    <NumberInput
      label={label}
      min={1}
      placeholder={placeholder}
      value={values[name] as number | string}
      onChange={(value) => setValues({ ...values, [name]: value })}
    />
  );
  const { keepRecordingsDays, ...rest } = values;
  return (
    <Stack gap="sm">
      {text('send', 'Who may send')}
      {text('watch', 'Who may watch')}
      <Text size="xs" c="dimmed">
        Filters over `name` and `ownerId`, with me('id') and me('roles'). Server keys and members are exempt.
      </Text>
      {number('mostAtOnce', 'At once, at most')}
      {number('mostMinutes', 'Minutes, at most')}
      {number('mostKbits', 'kbit/s, at most')}
      {number('silentSeconds', 'Ends after so many seconds in which nothing arrives')}
      {number('keepRecordingsDays', 'Days that recordings are kept', 'for ever')}
      <Trouble error={change.error} />
      <Group>
        <Button
          loading={change.isPending}
          onClick={() =>
            change.mutate(
              { params, body: { ...rest, keepRecordingsDays: keepRecordingsDays === '' ? null : Number(keepRecordingsDays) } as never },
              { onSuccess: onSaved },
            )
          }
        >
          Save
        </Button>
      </Group>
    </Stack>
  );
}
