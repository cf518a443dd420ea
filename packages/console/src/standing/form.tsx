import { Button, Checkbox, Group, NativeSelect, NumberInput, SegmentedControl, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { type Collection, operations, type Standing, type StandingDefinition } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { namesOf } from '../data/names.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Trouble } from '../parts/basics.js';
import { FilterInput } from '../parts/filterBar.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { UpcomingTable } from './tables.js';

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

/** Adds a standing notification, or changes one. */
export function StandingForm({ standing, onSaved }: { standing: Standing | null; onSaved: () => void }) {
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
