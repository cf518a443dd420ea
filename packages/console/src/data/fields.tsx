/** The fields of a collection: types and constraints, with a preview before each change. */
import { Alert, Button, Checkbox, Group, Modal, NativeSelect, Stack, TagsInput, Text, TextInput, Title } from '@mantine/core';
import { type ChangePreview, type Collection, type NamedField, operations, type SchemaChange } from '@orchard/contract';
import { FIELD_TYPES, type FieldType, type Json, MERGE_POLICIES, type MergePolicy, ON_DELETE } from '@orchard/core';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Code, Loaded, Moment, Trouble } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { useEnvironment } from '../environment.js';
import { FIELD_RULES, type FieldRules, FieldRulesInput } from './fieldRules.js';
import { namesOf } from './names.js';
import { showValue } from './value.js';
import { TableHead } from '../parts/tableHead.js';

type At = { app: string; environment: string; collection: string };

export function Fields({ collection, all }: { collection: Collection; all: Collection[] }) {
  const { params } = useEnvironment();
  const at = { ...params, collection: collection.name };
  const [editing, setEditing] = useState<NamedField | 'new' | null>(null);
  const [asking, setAsking] = useState<SchemaChange | null>(null);
  return (
    <Stack gap="lg">
      <section className="listing" aria-label="Fields">
        <table>
          <TableHead columns={['Field', 'Type', 'Constraints', { hidden: 'Change' }]} />
          <tbody>
            {collection.fields.map((field) => (
              <tr key={field.name}>
                <td className="mono">{field.name}</td>
                <td>{field.to ? `reference to ${field.to}` : field.type}</td>
                <td className="whole">{constraintsOf(field)}</td>
                <td>
                  <Group gap={4} justify="flex-end" wrap="nowrap">
                    <Button size="compact-xs" variant="subtle" onClick={() => setEditing(field)} aria-label={`Change ${field.name}`}>
                      Change
                    </Button>
                    <Button
                      size="compact-xs"
                      variant="subtle"
                      c="var(--care)"
                      onClick={() => setAsking({ change: 'drop', name: field.name })}
                      aria-label={`Drop ${field.name}`}
                    >
                      Drop
                    </Button>
                  </Group>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <Group>
        <Button variant="default" onClick={() => setEditing('new')}>
          Add field
        </Button>
      </Group>
      <Dropped collection={collection} onRecover={(column) => setAsking({ change: 'recover', column })} />
      <AsJsonSchema at={at} />
      <Modal
        opened={editing !== null}
        onClose={() => setEditing(null)}
        title={editing === 'new' ? `Add field to ${collection.name}` : `Change ${editing?.name}`}
        size="lg"
      >
        {editing && (
          <FieldForm
            collection={collection}
            field={editing === 'new' ? null : editing}
            all={all}
            onChange={(change) => (setEditing(null), setAsking(change))}
          />
        )}
      </Modal>
      <Modal opened={asking !== null} onClose={() => setAsking(null)} title="Preview" size="lg">
        {asking && <Preview at={at} change={asking} onDone={() => setAsking(null)} />}
      </Modal>
    </Stack>
  );
}

function constraintsOf({ name: _n, type: _t, to: _to, choices, ...rest }: NamedField): string {
  const parts = Object.entries(rest).map(([key, value]) =>
    value === true ? key : `${key}: ${typeof value === 'string' ? value : JSON.stringify(value)}`,
  );
  return [...(choices ? [choices.join(' | ')] : []), ...parts].join(', ');
}

function Dropped({ collection: { dropped }, onRecover }: { collection: Collection; onRecover: (column: string) => void }) {
  if (dropped.length === 0) return null;
  return (
    <section>
      <Title order={2}>Dropped</Title>
      <Stack gap={4} mt="xs">
        {dropped.map(({ column, name, type, at, until }) => (
          <Group key={column} gap="sm">
            <Text size="sm">
              <span className="mono">{name}</span> ({type}), dropped <Moment at={at} />, kept until <Moment at={until} />
            </Text>
            <Button size="compact-xs" variant="default" onClick={() => onRecover(column)}>
              Restore
            </Button>
          </Group>
        ))}
      </Stack>
    </section>
  );
}

function AsJsonSchema({ at }: { at: At }) {
  const [shown, setShown] = useState(false);
  const schema = useCall(operations.collections.schema, { params: at }, { enabled: shown });
  return (
    <section>
      <Button variant="subtle" size="compact-sm" onClick={() => setShown(!shown)} aria-expanded={shown}>
        As JSON Schema (2020-12)
      </Button>
      {shown && (
        <>
          <Text size="sm" c="dimmed">
            Keep it with your code, and apply it: orchard collection schema {at.collection} --set schema.json
          </Text>
          <Loaded of={schema}>{(document) => <Code>{JSON.stringify(document, null, 2)}</Code>}</Loaded>
        </>
      )}
    </section>
  );
}

type Draft = FieldRules & {
  name: string;
  type: FieldType;
  required: boolean;
  unique: boolean;
  hidden: boolean;
  personal: boolean;
  default: string;
  min: string;
  max: string;
  minLength: string;
  maxLength: string;
  pattern: string;
  choices: string[];
  to: string;
  onDelete: string;
  merge: string;
};

const text = (value: Json | undefined) =>
  value === undefined || value === null ? '' : typeof value === 'string' ? value : JSON.stringify(value);
const draftOf = (field: NamedField | null): Draft => ({
  name: field?.name ?? '',
  type: field?.type ?? 'text',
  required: field?.required ?? false,
  unique: field?.unique ?? false,
  hidden: field?.hidden ?? false,
  personal: field?.personal ?? false,
  setBy: field?.setBy ?? '',
  seenBy: field?.seenBy ?? '',
  default: text(field?.default),
  min: text(field?.min),
  max: text(field?.max),
  minLength: text(field?.minLength),
  maxLength: text(field?.maxLength),
  pattern: field?.pattern ?? '',
  choices: field?.choices ?? [],
  to: field?.to ?? '',
  onDelete: field?.onDelete ?? 'restrict',
  merge: field?.merge ?? '',
});

const MERGED: Record<MergePolicy, string> = {
  service: 'the value of the service',
  device: 'the value of the device',
  larger: 'the larger one',
  smaller: 'the smaller one',
  union: 'the items of both',
};
/** The ways to settle a conflict that a type has. */
const mergesOf = (type: FieldType): MergePolicy[] =>
  MERGE_POLICIES.filter((policy) =>
    policy === 'union' ? type === 'list' : policy === 'larger' || policy === 'smaller' ? MEMBERS.range?.includes(type) : true,
  );

const MEMBERS: Record<string, FieldType[]> = {
  range: ['integer', 'number', 'date', 'time'],
  length: ['text', 'list'],
  unique: ['text', 'integer', 'number', 'date', 'time', 'choice', 'reference'],
};

/** The draft as a field, with the constraints that its type allows. */
function fieldOf(draft: Draft): Omit<NamedField, 'name'> {
  const { type } = draft;
  const numeric = type === 'integer' || type === 'number';
  const bound = (value: string) => (value === '' ? undefined : numeric ? Number(value) : value);
  const field: Record<string, unknown> = { type };
  const set = (name: string, value: unknown) => {
    if (value !== undefined && value !== '' && value !== false) field[name] = value;
  };
  set('required', draft.required);
  if (MEMBERS.unique?.includes(type)) set('unique', draft.unique);
  set('hidden', draft.hidden);
  set('personal', draft.personal);
  for (const which of FIELD_RULES) set(which, draft[which].trim());
  if (draft.default !== '')
    set(
      'default',
      type === 'text' || type === 'choice' || type === 'date' || type === 'time' || type === 'reference'
        ? draft.default
        : parsed(draft.default),
    );
  if (MEMBERS.range?.includes(type)) {
    set('min', bound(draft.min));
    set('max', bound(draft.max));
  }
  if (MEMBERS.length?.includes(type)) {
    set('minLength', draft.minLength === '' ? undefined : Number(draft.minLength));
    set('maxLength', draft.maxLength === '' ? undefined : Number(draft.maxLength));
  }
  if (draft.merge !== 'service' && mergesOf(type).includes(draft.merge as MergePolicy)) set('merge', draft.merge);
  if (type === 'text') set('pattern', draft.pattern);
  if (type === 'choice') set('choices', draft.choices);
  if (type === 'reference') {
    set('to', draft.to);
    set('onDelete', draft.onDelete);
  }
  return field as Omit<NamedField, 'name'>;
}

function parsed(json: string): Json {
  try {
    return JSON.parse(json) as Json;
  } catch {
    return json;
  }
}

function FieldForm({
  collection,
  field,
  all,
  onChange,
}: {
  collection: Collection;
  field: NamedField | null;
  all: Collection[];
  onChange: (change: SchemaChange) => void;
}) {
  const [draft, setDraft] = useState(draftOf(field));
  const set = (change: Partial<Draft>) => setDraft((before) => ({ ...before, ...change }));
  const input = (name: keyof Draft, label: string, description?: string) => (
    <TextInput
      label={label}
      description={description}
      value={draft[name] as string}
      onChange={({ currentTarget }) => set({ [name]: currentTarget.value })}
    />
  );
  const renamed = field !== null && draft.name !== field.name;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (renamed) onChange({ change: 'rename', name: field.name, to: draft.name });
        else onChange({ change: field ? 'set' : 'add', name: draft.name, field: fieldOf(draft) as never });
      }}
    >
      <Stack gap="sm">
        <Group grow align="flex-start">
          {input('name', 'Name', field ? 'Renaming is a separate change' : 'A lower-case letter, then letters, digits and _')}
          <NativeSelect
            label="Type"
            description="What it holds"
            value={draft.type}
            disabled={renamed}
            onChange={({ currentTarget }) => set({ type: currentTarget.value as FieldType })}
            data={[...FIELD_TYPES]}
          />
        </Group>
        {!renamed && (
          <>
            {draft.type === 'choice' && (
              <TagsInput label="Choices" description="Enter after each" value={draft.choices} onChange={(choices) => set({ choices })} />
            )}
            {draft.type === 'reference' && (
              <Group grow>
                <NativeSelect
                  label="Refers to"
                  value={draft.to}
                  onChange={({ currentTarget }) => set({ to: currentTarget.value })}
                  data={['', 'users', ...all.map(({ name }) => name)]}
                />
                <NativeSelect
                  label="When the target is deleted"
                  value={draft.onDelete}
                  onChange={({ currentTarget }) => set({ onDelete: currentTarget.value })}
                  data={[...ON_DELETE].map((value) => ({
                    value,
                    label: { restrict: 'refuse the deletion', clear: 'clear this field', cascade: 'delete this record too' }[value],
                  }))}
                />
              </Group>
            )}
            {MEMBERS.range?.includes(draft.type) && (
              <Group grow>
                {input('min', 'Minimum')}
                {input('max', 'Maximum')}
              </Group>
            )}
            {MEMBERS.length?.includes(draft.type) && (
              <Group grow>
                {input('minLength', draft.type === 'list' ? 'Minimum number of items' : 'Minimum length in characters')}
                {input('maxLength', 'Maximum length')}
              </Group>
            )}
            {draft.type === 'text' && input('pattern', 'Matches', 'A regular expression for the whole text')}
            {input(
              'default',
              'Default',
              draft.type === 'date' || draft.type === 'time' ? 'A constant, or now()' : 'Used when a new record has no value',
            )}
            <NativeSelect
              label="When a device changed it offline, and it was changed here too"
              value={draft.merge || 'service'}
              onChange={({ currentTarget }) => set({ merge: currentTarget.value })}
              data={mergesOf(draft.type).map((value) => ({ value, label: `keep ${MERGED[value]}` }))}
            />
            <Group>
              <Checkbox
                label="Required"
                checked={draft.required}
                onChange={({ currentTarget }) => set({ required: currentTarget.checked })}
              />
              {MEMBERS.unique?.includes(draft.type) && (
                <Checkbox label="Unique" checked={draft.unique} onChange={({ currentTarget }) => set({ unique: currentTarget.checked })} />
              )}
              <Checkbox
                label="Hidden from clients"
                checked={draft.hidden}
                onChange={({ currentTarget }) => set({ hidden: currentTarget.checked })}
              />
              <Checkbox
                label="Personal"
                title="Says something of a person: a sample of records has made-up values in its place"
                checked={draft.personal}
                onChange={({ currentTarget }) => set({ personal: currentTarget.checked })}
              />
            </Group>
            <FieldRulesInput
              collection={collection}
              field={field?.name ?? null}
              names={namesOf(collection, all)}
              rules={draft}
              onChange={set}
            />
          </>
        )}
        <Group justify="flex-end">
          <Button type="submit">Preview</Button>
        </Group>
      </Stack>
    </form>
  );
}

/** The preview of a change, and the button that makes it. */
function Preview({ at, change, onDone }: { at: At; change: SchemaChange; onDone: () => void }) {
  const preview = useCall(operations.collections.previewChange, { params: at, body: change });
  const apply = useChange(operations.collections.change, [operations.collections, operations.managedRecords]);
  const run = (misfits: 'refuse' | 'clear') => apply.mutate({ params: at, query: { misfits }, body: change }, { onSuccess: onDone });
  const all = 'field' in change && Boolean(change.field.required || change.field.unique);
  return (
    <Loaded of={preview}>
      {(seen) => (
        <Stack gap="sm">
          <Text>
            <strong>{sayChange(change)}</strong>: {counted(seen.fits, 'record')} fit
            {seen.misfits > 0 && <span className="care">, {count(seen.misfits)} do not</span>}.
          </Text>
          <Examples of={seen} />
          {seen.notes.map((note) => (
            <Text key={note} size="sm">
              {note}
            </Text>
          ))}
          {seen.blocked && (
            <Alert color="persimmon" variant="light" title="Not possible" styles={{ title: { color: 'var(--care)' } }}>
              {seen.blocked}
            </Alert>
          )}
          <Trouble error={apply.error} />
          <Group justify="flex-end">
            {seen.misfits > 0 && !all && !seen.blocked && (
              <Button variant="default" loading={apply.isPending} onClick={() => run('clear')}>
                Clear {counted(seen.misfits, 'misfit')} and apply
              </Button>
            )}
            <Button disabled={seen.blocked !== null || seen.misfits > 0} loading={apply.isPending} onClick={() => run('refuse')}>
              {change.change === 'drop' ? 'Drop field' : change.change === 'recover' ? 'Restore field' : 'Apply change'}
            </Button>
          </Group>
        </Stack>
      )}
    </Loaded>
  );
}

function sayChange(change: SchemaChange): string {
  switch (change.change) {
    case 'add':
      return `Add field ${change.name} (${change.field.type})`;
    case 'set':
      return `${change.name} becomes ${change.field.type}`;
    case 'rename':
      return `${change.name} is renamed to ${change.to}`;
    case 'drop':
      return `${change.name} is dropped`;
    case 'recover':
      return 'A dropped field is restored';
  }
}

function Examples({ of: { examples } }: { of: ChangePreview }) {
  if (examples.length === 0) return null;
  return (
    <section className="listing" aria-label="Examples that do not fit">
      <table>
        <tbody>
          {examples.map(({ id, value, problem }) => (
            <tr key={id}>
              <td className="mono">{id}</td>
              <td>{showValue(value as Json)}</td>
              <td className="whole">{problem}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
