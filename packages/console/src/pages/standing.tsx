/** Standing notifications: what is sent for each record, who gets what next, and what was sent. */
import {
  Anchor,
  Button,
  Checkbox,
  Drawer,
  Group,
  NativeSelect,
  NumberInput,
  SegmentedControl,
  Stack,
  Text,
  Textarea,
  TextInput,
  Title,
} from '@mantine/core';
import { type Collection, operations, type Standing, type StandingDefinition, type Upcoming } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { namesOf } from '../data/names.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FilterInput } from '../parts/filterBar.js';
import { count, counted } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';

export function StandingPage() {
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Standing notifications"
        hint="Sent for each record, so long before or after a date or time in it"
        operation={operations.standing.list}
        {...OFTEN}
        label="Standing notifications"
        idOf={({ id }) => id}
        empty={
          <Empty title="No standing notifications yet">
            <Text>“The evening before arrival”: for each booking, at 18:00 of the day before its date, on the clock of who gets it.</Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Name', render: ({ name }) => name },
          { name: 'collection', label: 'For each of', render: ({ collection }) => <span className="mono">{collection}</span> },
          { name: 'when', label: 'When', render: whenWords },
          { name: 'sent', label: 'Sent in 30 days', right: true, render: ({ sent }) => <span className="mono">{count(sent)}</span> },
          { name: 'lastSentAt', label: 'Last', render: ({ lastSentAt }) => (lastSentAt ? <Moment at={lastSentAt} /> : 'never') },
          {
            name: 'state',
            label: 'State',
            render: ({ active, problem }) => (problem ? <span className="care">cannot be sent</span> : active ? 'on' : 'off'),
          },
        ]}
        drawer={{
          title: 'Standing notification',
          size: 'xl',
          render: (id, close, items) => {
            const standing = items.find((one) => one.id === id);
            return standing && <OneStanding key={standing.changedAt} standing={standing} onGone={close} />;
          },
        }}
      >
        <Button onClick={() => setAdding('new')}>Add standing notification</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="xl" title="Add standing notification">
        {adding && <StandingForm standing={null} onSaved={() => setAdding(null)} />}
      </Drawer>
    </>
  );
}

/** `1 day before arrives, at 18:00 where each person is`. */
function whenWords({ field, daysBefore, at, minutesBefore, zone }: StandingDefinition): string {
  const by = daysBefore ?? minutesBefore ?? 0;
  const length = counted(Math.abs(by), daysBefore === undefined ? 'minute' : 'day');
  const start = by === 0 ? `when ${field} is` : `${length} ${by < 0 ? 'after' : 'before'} ${field}`;
  return at ? `${start}, at ${at} ${zone ? `in ${zone}` : 'where each person is'}` : start;
}

/** How many are shown at first. */
const FIRST = 5;

function OneStanding({ standing, onGone }: { standing: Standing; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, standing: standing.id };
  const [limit, setLimit] = useState(FIRST);
  const next = useCall(operations.standing.next, { params: at, query: { limit } });
  const sent = useCall(operations.standing.sent, { params: at, query: { limit: 20 } }, OFTEN);
  const remove = useChange(operations.standing.remove);
  return (
    <Stack gap="lg">
      <div>
        <Title order={2}>{standing.name}</Title>
        <Text c="dimmed">
          For each of <span className="mono">{standing.collection}</span>
          {standing.filter && (
            <>
              {' '}
              with <span className="mono">{standing.filter}</span>
            </>
          )}
          , {whenWords(standing)}.{!standing.active && ' It is off.'}
        </Text>
        {standing.problem && <Text className="care">It cannot be sent: {standing.problem}</Text>}
      </div>
      <section>
        <Title order={3}>Who gets what next</Title>
        <Loaded of={next}>
          {({ items }) => (
            <>
              <UpcomingTable items={items} collection={standing.collection} />
              {items.length === FIRST && (
                <Button mt="xs" size="compact-sm" variant="subtle" onClick={() => setLimit(100)}>
                  Show more
                </Button>
              )}
            </>
          )}
        </Loaded>
      </section>
      <section>
        <Title order={3}>Sent</Title>
        <Loaded of={sent}>{({ items }) => <SentTable items={items} collection={standing.collection} />}</Loaded>
      </section>
      <section>
        <Title order={3}>Definition</Title>
        <StandingForm standing={standing} onSaved={() => undefined} />
      </section>
      <Group>
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          question={`Delete ${standing.name}?`}
          consequence="Nothing more is sent for it."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}

function RecordLink({ collection, id }: { collection: string; id: string }) {
  const { base } = useEnvironment();
  return (
    <Anchor component={Link} size="sm" className="mono" to={`${base}/data/${collection}?open=${encodeURIComponent(id)}`}>
      {id.length > 20 ? `…${id.slice(-12)}` : id}
    </Anchor>
  );
}

function UpcomingTable({ items, collection }: { items: Upcoming[]; collection: string }) {
  const { base } = useEnvironment();
  if (items.length === 0) return <Text c="dimmed">Nobody: no record that fits has a date ahead.</Text>;
  return (
    <div className="listing">
      <table>
        <TableHead columns={['When', 'Record', 'Who', 'What', 'Arrives on']} />
        <tbody>
          {items.map(({ record, dueAt, zone, userId, person, title, body, reach }) => (
            <tr key={record}>
              <td>
                {clockOf(dueAt, zone)}
                <div className="hint">{zone}</div>
              </td>
              <td>
                <RecordLink collection={collection} id={record} />
              </td>
              <td>
                {userId ? (
                  <Anchor component={Link} size="sm" to={`${base}/users?open=${userId}`}>
                    {person ?? `guest …${userId.slice(-8)}`}
                  </Anchor>
                ) : (
                  'nobody'
                )}
              </td>
              <td className="whole">
                <strong>{title}</strong> {body}
              </td>
              <td className={`whole${/^\d|^By /.test(reach) ? '' : ' care'}`}>{reach}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A moment on somebody's own clock: `Fri 27 Nov, 18:00`. */
const clockOf = (at: string, timeZone: string): string =>
  new Date(at).toLocaleString('en-GB', { timeZone, weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });

type SentItem = { record: string; value: string; at: string; outcome: string; reason: string | null; notification: string | null };

function SentTable({ items, collection }: { items: SentItem[]; collection: string }) {
  const { base } = useEnvironment();
  if (items.length === 0) return <Text c="dimmed">Nothing yet.</Text>;
  return (
    <div className="listing">
      <table>
        <TableHead columns={['At', 'Record', 'For', 'Outcome']} />
        <tbody>
          {items.map(({ record, value, at, outcome, reason, notification }) => (
            <tr key={`${record} ${value}`}>
              <td>
                <Moment at={at} />
              </td>
              <td>
                <RecordLink collection={collection} id={record} />
              </td>
              <td className="mono">{value}</td>
              <td className="whole">
                {notification ? (
                  <Anchor component={Link} size="sm" to={`${base}/sent/${notification}`}>
                    sent
                  </Anchor>
                ) : (
                  <span className="care">{outcome}</span>
                )}{' '}
                {reason}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const EMPTY = {
  name: '',
  collection: '',
  field: '',
  filter: '',
  to: 'ownerId',
  daysBefore: 1 as number | string,
  at: '18:00',
  minutesBefore: 60 as number | string,
  zone: '',
  way: 'push' as Standing['way'],
  title: '',
  body: '',
  link: '',
  active: true,
};
type Values = typeof EMPTY;

function StandingForm({ standing, onSaved }: { standing: Standing | null; onSaved: () => void }) {
  const { params } = useEnvironment();
  const collections = useCall(operations.collections.list, { params });
  return <Loaded of={collections}>{({ items }) => <LoadedForm standing={standing} collections={items} onSaved={onSaved} />}</Loaded>;
}

/** Parts of a definition that the form does not show, such as other languages, stay as they are. */
function bodyOf(values: Values, isDate: boolean, standing: Standing | null): StandingDefinition {
  const { daysBefore, at, minutesBefore, zone, filter, title, body, link, ...rest } = values;
  const { platforms, locales, overlays, second, badge, sound, picture, data, category, buttons } = standing ?? {};
  const kept = { platforms, locales, overlays, second, badge, sound, picture, data, category, buttons };
  const given = { filter, zone, title, body, link };
  return {
    ...Object.fromEntries(Object.entries(kept).filter(([, value]) => value !== undefined)),
    ...Object.fromEntries(Object.entries(given).filter(([, value]) => value !== '')),
    ...rest,
    ...(isDate ? { daysBefore: Number(daysBefore), at } : { minutesBefore: Number(minutesBefore) }),
  } as StandingDefinition;
}

function LoadedForm({ standing, collections, onSaved }: { standing: Standing | null; collections: Collection[]; onSaved: () => void }) {
  const { params } = useEnvironment();
  const dated = collections.filter(({ fields }) => fields.some(({ type }) => type === 'date' || type === 'time'));
  const first = dated[0];
  const initial: Values = standing
    ? { ...EMPTY, ...(Object.fromEntries(Object.entries(standing).filter(([name]) => name in EMPTY)) as Partial<Values>) }
    : { ...EMPTY, collection: first?.name ?? '', field: fieldsOf(first)[0] ?? '' };
  const isDate = ({ collection, field }: Values) =>
    collections.find(({ name }) => name === collection)?.fields.find(({ name }) => name === field)?.type !== 'time';
  const body = (values: Values) => bodyOf(values, isDate(values), standing);
  const operation = (standing ? operations.standing.change : operations.standing.add) as typeof operations.standing.add;
  const save = useOperationForm(operation, {
    initial,
    input: (values) => ({ params: { ...params, ...(standing ? { standing: standing.id } : {}) }, body: body(values) }),
    onDone: onSaved,
  });
  const { getInputProps, setFieldValue, values } = save.form;
  const chosen = collections.find(({ name }) => name === values.collection);
  if (!first)
    return (
      <Text>
        No collection has a field of type date or time. <Link to="../data">Add one first.</Link>
      </Text>
    );
  return (
    <Stack>
      <FormOf of={save} verb={standing ? 'Save' : 'Add'}>
        <TextInput label="Name" placeholder="The evening before" {...getInputProps('name')} />
        <Group grow align="flex-start">
          <NativeSelect
            label="For each record of"
            data={dated.map(({ name }) => name)}
            {...getInputProps('collection')}
            onChange={({ currentTarget: { value } }) => {
              setFieldValue('collection', value);
              setFieldValue('field', fieldsOf(collections.find(({ name }) => name === value))[0] ?? '');
              setFieldValue('to', 'ownerId');
            }}
          />
          <NativeSelect label="Date or time" data={fieldsOf(chosen)} {...getInputProps('field')} />
          <NativeSelect label="To" data={['ownerId', ...peopleOf(chosen)]} {...getInputProps('to')} />
        </Group>
        <FilterInput
          label="Only records with"
          placeholder="state = 'paid'"
          value={values.filter}
          onChange={(filter) => setFieldValue('filter', filter)}
          names={chosen && namesOf(chosen, collections)}
          error={getInputProps('filter').error}
        />
        {isDate(values) ? (
          <Group grow align="flex-start">
            <NumberInput label="Days before" description="After it, if negative" min={-365} max={365} {...getInputProps('daysBefore')} />
            <TextInput label="At" description="Time of day" {...getInputProps('at')} />
            <TextInput label="Clock" description="Empty: where each person is" placeholder="Europe/Oslo" {...getInputProps('zone')} />
          </Group>
        ) : (
          <NumberInput label="Minutes before" description="After it, if negative" {...getInputProps('minutesBefore')} />
        )}
        <TextInput label="Title" placeholder="Tomorrow at {record.hut.name}" {...getInputProps('title')} />
        <Textarea
          label="Text"
          description="{record.…} is the record, one step along its references; {user.name|hiker} the person"
          autosize
          minRows={2}
          {...getInputProps('body')}
        />
        <Group align="flex-end">
          <TextInput label="Opens" placeholder="/bookings/{record.id}" style={{ flex: 1 }} {...getInputProps('link')} />
          <SegmentedControl
            aria-label="Way"
            data={[
              { value: 'push', label: 'Push' },
              { value: 'sms', label: 'SMS' },
              { value: 'mail', label: 'Mail' },
            ]}
            {...getInputProps('way')}
          />
          <Checkbox label="On" mb={8} {...getInputProps('active', { type: 'checkbox' })} />
        </Group>
      </FormOf>
      <PreviewOf body={body(values)} />
    </Stack>
  );
}

/** Who would get what, before it is saved. */
function PreviewOf({ body }: { body: StandingDefinition }) {
  const { params } = useEnvironment();
  const preview = useChange(operations.standing.preview, []);
  return (
    <section>
      <Button
        variant="default"
        size="xs"
        loading={preview.isPending}
        onClick={() => preview.mutate({ params, query: { limit: 5 }, body: { ...body, name: body.name || 'preview' } })}
      >
        Show who would get it
      </Button>
      <Trouble error={preview.error} />
      {preview.data && <UpcomingTable items={preview.data.items} collection={body.collection} />}
    </section>
  );
}

const fieldsOf = (collection: Collection | undefined): string[] =>
  (collection?.fields ?? []).filter(({ type }) => type === 'date' || type === 'time').map(({ name }) => name);
const peopleOf = (collection: Collection | undefined): string[] =>
  (collection?.fields ?? []).filter(({ to }) => to === 'users').map(({ name }) => name);
