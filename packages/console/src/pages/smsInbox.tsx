/** Received short messages, and opt-outs. */
import { Anchor, NativeSelect, SegmentedControl, Stack, Text, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN } from '../api.js';
import { MessagingSettings } from '../messaging/settings.js';
import { Empty, Moment, PageHead } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { ListBody } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useAddressState, useEnvironment } from '../environment.js';

type View = 'inbox' | 'opt-outs' | 'settings';

/** The calls behind each view, for "From code". */
function callsOf(view: View, params: { app: string; environment: string }) {
  if (view === 'settings') return [coded(operations.sms.settings, { params })];
  return [view === 'opt-outs' ? coded(operations.sms.optOuts, { params }) : coded(operations.sms.inbox, { params })];
}

export function SmsInboxPage() {
  const { params } = useEnvironment();
  const [view, setView] = useAddressState('view', 'inbox');
  return (
    <>
      <PageHead title="SMS inbox" hint="Replies from phones, and opt-outs">
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
        <FromCode calls={callsOf(view as View, params)} />
      </PageHead>
      {view === 'settings' ? <MessagingSettings /> : view === 'opt-outs' ? <OptOuts /> : <Inbox />}
    </>
  );
}

function Inbox() {
  const { base } = useEnvironment();
  return (
    <ListBody
      operation={operations.sms.inbox}
      {...OFTEN}
      label="Received messages"
      initialSort="-at"
      idOf={({ id }) => id}
      example="sender = '+12025550142'"
      presets={[{ label: 'Opted out', filter: "asked = 'out'" }]}
      empty={
        <Empty title="No messages yet">
          <Text>Replies appear here while an SMPP gateway is bound.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'At', sortable: true, render: ({ at }) => <Moment at={at} /> },
        { name: 'sender', label: 'From', sortable: true, render: ({ sender }) => <span className="mono">{sender}</span> },
        { name: 'recipient', label: 'To', render: ({ recipient }) => recipient },
        { name: 'text', label: 'Text', render: ({ text }) => text },
        {
          name: 'asked',
          label: 'Opt-out',
          render: ({ asked }) => (asked === 'out' ? 'opt-out' : asked === 'in' ? 'opt-in' : ''),
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

/** For requests made by phone or in person. */
function RecordWish() {
  const { params } = useEnvironment();
  const put = useOperationForm(operations.sms.putOptOut, {
    initial: { address: '', state: 'out', because: '' },
    input: ({ address, state, because }) => {
      const way = address.includes('@') ? ('mail' as const) : ('sms' as const);
      const at = { ...params, way, address: address.trim() };
      return { params: at, body: { state: state as 'out' | 'in', because: because.trim() } };
    },
    onDone: () => put.form.reset(),
  });
  const { getInputProps, values } = put.form;
  return (
    <FormOf of={put} verb="Record" row disabled={!values.address.trim() || !values.because.trim()}>
      <TextInput label="Number or address" placeholder="+12025550142" classNames={{ input: 'mono' }} {...getInputProps('address')} />
      <NativeSelect
        label="State"
        w={160}
        data={[
          { value: 'out', label: 'opt-out' },
          { value: 'in', label: 'opt-in' },
        ]}
        {...getInputProps('state')}
      />
      <TextInput label="Reason" placeholder="called on Monday" maxLength={200} style={{ flex: 1 }} {...getInputProps('because')} />
    </FormOf>
  );
}

function OptOuts() {
  return (
    <Stack>
      <RecordWish />
      <div>
        <ListBody
          operation={operations.sms.optOuts}
          label="Opt-outs"
          initialSort="-at"
          idOf={({ way, address }) => `${way} ${address}`}
          example="state = 'out' AND way = 'sms'"
          empty={
            <Empty title="No one has opted out">
              <Text>A phone that replies STOP, or the word of its language, is listed here and gets no SMS until it replies START.</Text>
            </Empty>
          }
          columns={[
            {
              name: 'address',
              label: 'Number or address',
              sortable: true,
              render: ({ address }) => <span className="mono">{address}</span>,
            },
            { name: 'way', label: 'Way', sortable: true, render: ({ way }) => way },
            { name: 'state', label: 'State', sortable: true, render: ({ state: of }) => (of === 'out' ? 'opted out' : 'opted in') },
            { name: 'because', label: 'Reason', render: ({ because }) => because },
            { name: 'at', label: 'Since', sortable: true, render: ({ at }) => <Moment at={at} /> },
          ]}
        />
      </div>
    </Stack>
  );
}
