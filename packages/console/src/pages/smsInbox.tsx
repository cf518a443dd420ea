/** Short messages that came in, and who wants no messages. */
import { Anchor, Button, Group, SegmentedControl, Select, Stack, Text, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { Empty, Moment, PageHead, Trouble } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';
import { MessagingSettings } from '../messaging/settings.js';

export function SmsInboxPage() {
  const { params } = usePlace();
  const [view, setView] = useAddressState('view', 'inbox');
  const path = `/manage/v1/apps/${params.app}/environments/${params.environment}`;
  return (
    <>
      <PageHead title="SMS inbox" hint="What phones answered, and who wants no messages">
        <SegmentedControl
          size="xs"
          aria-label="What to show"
          value={view}
          onChange={setView}
          data={[
            { value: 'inbox', label: 'Inbox' },
            { value: 'opt-outs', label: 'Opt-outs' },
            { value: 'settings', label: 'Settings' },
          ]}
        />
        <FromCode
          same={{
            command: `orchard ${view === 'settings' ? 'messaging show' : `sms ${view}`} --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `${path}/${{ inbox: 'sms/inbox', 'opt-outs': 'opt-outs', settings: 'messaging' }[view] ?? 'sms/inbox'}`,
          }}
        />
      </PageHead>
      {view === 'settings' ? <MessagingSettings /> : view === 'opt-outs' ? <OptOuts /> : <Inbox />}
    </>
  );
}

function Inbox() {
  const { params, base } = usePlace();
  const state = useListState('-at');
  const inbox = useCall(operations.sms.inbox, { params, query: { ...state.query, limit: 50 } }, OFTEN);
  return (
    <Listing
      label="Short messages that came in"
      state={state}
      answer={inbox}
      idOf={({ id }) => id}
      openId=""
      onOpen={() => undefined}
      example="sender = '+12025550142'"
      presets={[{ label: 'Opted out', filter: "asked = 'out'" }]}
      empty={
        <Empty title="Nothing came in yet">
          <Text>Phones that answer an SMS of yours are read here, when a gateway over SMPP is bound.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'At', sortable: true, render: ({ at }) => <Moment at={at} /> },
        { name: 'sender', label: 'From', sortable: true, render: ({ sender }) => <span className="mono">{sender}</span> },
        { name: 'recipient', label: 'To', render: ({ recipient }) => recipient },
        { name: 'text', label: 'Text', render: ({ text }) => text },
        {
          name: 'asked',
          label: 'Asked',
          render: ({ asked }) => (asked === 'out' ? 'no more messages' : asked === 'in' ? 'messages again' : ''),
        },
        {
          name: 'userId',
          label: 'User',
          render: ({ userId }) =>
            userId && (
              <Anchor component={Link} to={`${base}/users?open=${userId}`}>
                …{userId.slice(-8)}
              </Anchor>
            ),
        },
        { name: 'gateway', label: 'Gateway', render: ({ gateway }) => gateway },
      ]}
    />
  );
}

/** Somebody asked for it on the phone or at a desk. */
function NoteWish() {
  const { params } = usePlace();
  const [address, setAddress] = useState('');
  const [because, setBecause] = useState('');
  const [state, setState] = useState<'out' | 'in'>('out');
  const put = useChange(operations.sms.putOptOut, ['sms.']);
  const submit = () => {
    const way = address.includes('@') ? ('mail' as const) : ('sms' as const);
    const forget = () => {
      setAddress('');
      setBecause('');
    };
    put.mutate({ params: { ...params, way, address: address.trim() }, body: { state, because: because.trim() } }, { onSuccess: forget });
  };
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <Stack gap="sm" mb="md">
        <Group gap="xs" align="flex-end">
          <TextInput
            label="Number or address"
            placeholder="+12025550142"
            classNames={{ input: 'mono' }}
            value={address}
            onChange={({ currentTarget }) => setAddress(currentTarget.value)}
          />
          <Select
            label="wants"
            w={160}
            value={state}
            onChange={(value) => setState(value === 'in' ? 'in' : 'out')}
            data={[
              { value: 'out', label: 'no messages' },
              { value: 'in', label: 'messages again' },
            ]}
          />
          <TextInput
            label="because"
            placeholder="called on Monday"
            maxLength={200}
            style={{ flex: 1 }}
            value={because}
            onChange={({ currentTarget }) => setBecause(currentTarget.value)}
          />
          <Button type="submit" variant="default" disabled={!address.trim() || !because.trim()} loading={put.isPending}>
            Note it
          </Button>
        </Group>
        <Trouble error={put.error} />
      </Stack>
    </form>
  );
}

function OptOuts() {
  const { params } = usePlace();
  const state = useListState('-at');
  const optOuts = useCall(operations.sms.optOuts, { params, query: { ...state.query, limit: 50 } });
  return (
    <>
      <NoteWish />
      <Listing
        label="Opt-outs"
        state={state}
        answer={optOuts}
        idOf={({ way, address }) => `${way} ${address}`}
        openId=""
        onOpen={() => undefined}
        example="state = 'out' AND way = 'sms'"
        empty={
          <Empty title="Nobody has opted out">
            <Text>A phone that answers STOP, or the word of its language, is kept here and gets no SMS until it answers START.</Text>
          </Empty>
        }
        columns={[
          { name: 'address', label: 'Number or address', sortable: true, render: ({ address }) => <span className="mono">{address}</span> },
          { name: 'way', label: 'Way', sortable: true, render: ({ way }) => way },
          { name: 'state', label: 'Wants', sortable: true, render: ({ state: of }) => (of === 'out' ? 'no messages' : 'messages') },
          { name: 'because', label: 'Because', render: ({ because }) => because },
          { name: 'at', label: 'Since', sortable: true, render: ({ at }) => <Moment at={at} /> },
        ]}
      />
    </>
  );
}
