/** A record as a form, with an editor for each type of field. */
import { Button, Group, JsonInput, NativeSelect, NumberInput, Stack, Textarea, TextInput } from '@mantine/core';
import type { Collection, NamedField, OrchardRecord } from '@orchard/contract';
import type { FieldType, Json, JsonObject } from '@orchard/core';
import { useState } from 'react';

type Draft = Record<string, Json>;
type Props = {
  fields: Collection['fields'];
  record: OrchardRecord | null;
  open: boolean;
  saving: boolean;
  saveLabel: string;
  onSave: (body: JsonObject) => void;
};

/** Saves only changed fields; for a new record, those with a value. */
export function RecordForm({ fields, record, open, saving, saveLabel, onSave }: Props) {
  const [changes, setChanges] = useState<Draft>({});
  const [id, setId] = useState('');
  const [more, setMore] = useState('');
  const [wrong, setWrong] = useState<string | null>(null);
  const currentOf = (name: string): Json => (name in changes ? (changes[name] as Json) : ((record?.[name] as Json | undefined) ?? null));
  const set = (name: string) => (value: Json) => setChanges((before) => ({ ...before, [name]: value }));
  function save(): void {
    try {
      const extra = more.trim() ? (JSON.parse(more) as JsonObject) : {};
      setWrong(null);
      onSave({ ...(id ? { id } : {}), ...changes, ...extra });
    } catch {
      setWrong('This is not a JSON object, such as {"bunks": 12}.');
    }
  }
  const touched = Object.keys(changes).length > 0 || more.trim() !== '' || record === null;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save();
      }}
    >
      <Stack gap="sm">
        {record === null && (
          <TextInput
            label="id"
            description="Leave empty to generate one"
            classNames={{ input: 'mono' }}
            value={id}
            onChange={({ currentTarget }) => setId(currentTarget.value)}
          />
        )}
        {fields.map((field) => (
          <FieldEditor key={field.name} field={field} value={currentOf(field.name)} onChange={set(field.name)} />
        ))}
        {open && (
          <JsonInput
            label={fields.length === 0 ? 'Fields, as JSON' : 'More fields, as JSON'}
            description="The environment is open: fields named here are added to the collection"
            placeholder='{"bunks": 12}'
            autosize
            minRows={2}
            value={more}
            onChange={setMore}
            error={wrong}
          />
        )}
        <Group justify="flex-end">
          {record && touched && (
            <Button
              variant="subtle"
              onClick={() => {
                setChanges({});
                setMore('');
              }}
            >
              Undo changes
            </Button>
          )}
          <Button type="submit" loading={saving} disabled={!touched}>
            {saveLabel}
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

/** Type and constraints in one line. */
export function describeField({ type, to, required, unique, min, max, hidden }: NamedField): string {
  const range = [min !== undefined ? `from ${min}` : '', max !== undefined ? `up to ${max}` : ''].filter(Boolean).join(' ');
  return [to ? `reference to ${to}` : type, required ? 'required' : '', unique ? 'unique' : '', range, hidden ? 'hidden from clients' : '']
    .filter(Boolean)
    .join(', ');
}

function FieldEditor({ field, value, onChange }: { field: NamedField; value: Json; onChange: (value: Json) => void }) {
  const { name, type } = field;
  const description = describeField(field);
  switch (type) {
    case 'integer':
    case 'number':
      return (
        <NumberInput
          label={name}
          description={description}
          value={(value as number | null) ?? ''}
          allowDecimal={type === 'number'}
          onChange={(next) => onChange(next === '' ? null : Number(next))}
        />
      );
    case 'boolean':
      return (
        <NativeSelect
          label={name}
          description={description}
          value={value === null ? '' : String(value)}
          onChange={({ currentTarget }) => onChange(currentTarget.value === '' ? null : currentTarget.value === 'true')}
          data={[{ value: '', label: 'no value' }, 'true', 'false']}
        />
      );
    case 'place':
      return <PlaceEditor name={name} value={value as JsonObject | null} onChange={onChange} />;
    case 'list':
    case 'object':
      return <JsonEditor name={name} type={type} value={value} onChange={onChange} />;
    case 'choice':
      return (
        <NativeSelect
          label={name}
          description={description}
          value={(value as string | null) ?? ''}
          onChange={({ currentTarget }) => onChange(currentTarget.value || null)}
          data={[{ value: '', label: 'no value' }, ...(field.choices ?? [])]}
        />
      );
    case 'date':
      return (
        <TextInput
          type="date"
          label={name}
          description={description}
          value={(value as string | null) ?? ''}
          onChange={({ currentTarget }) => onChange(currentTarget.value || null)}
        />
      );
    case 'time':
    case 'reference':
      return (
        <TextInput
          label={name}
          description={description}
          placeholder={type === 'time' ? '2026-07-14T06:00:00Z' : `an id of ${field.to}`}
          classNames={{ input: 'mono' }}
          value={(value as string | null) ?? ''}
          onChange={({ currentTarget }) => onChange(currentTarget.value || null)}
        />
      );
    case 'text':
      return (
        <Textarea
          label={name}
          description={description}
          autosize
          minRows={1}
          maxRows={12}
          value={(value as string | null) ?? ''}
          onChange={({ currentTarget }) => onChange(currentTarget.value === '' ? null : currentTarget.value)}
        />
      );
  }
}

function PlaceEditor({ name, value, onChange }: { name: string; value: JsonObject | null; onChange: (value: Json) => void }) {
  const given = (value?.coordinates ?? []) as number[];
  const [parts, setParts] = useState<(number | '')[]>([given[0] ?? '', given[1] ?? '']);
  const change = (index: 0 | 1) => (next: string | number) => {
    const after = parts.map((part, i) => (i === index ? (next === '' ? '' : Number(next)) : part));
    setParts(after);
    const [longitude = '', latitude = ''] = after;
    if (longitude === '' && latitude === '') onChange(null);
    else if (longitude !== '' && latitude !== '') onChange({ type: 'Point', coordinates: [longitude, latitude] });
  };
  return (
    <Group grow align="flex-end">
      <NumberInput
        label={`${name}: longitude`}
        description="place, degrees east"
        value={parts[0] ?? ''}
        decimalScale={6}
        min={-180}
        max={180}
        onChange={change(0)}
      />
      <NumberInput
        label={`${name}: latitude`}
        description="degrees north"
        value={parts[1] ?? ''}
        decimalScale={6}
        min={-90}
        max={90}
        onChange={change(1)}
      />
    </Group>
  );
}

function JsonEditor({ name, type, value, onChange }: { name: string; type: FieldType; value: Json; onChange: (value: Json) => void }) {
  const [text, setText] = useState(value === null ? '' : JSON.stringify(value, null, 2));
  const [error, setError] = useState<string | null>(null);
  function change(next: string): void {
    setText(next);
    try {
      onChange(next.trim() === '' ? null : (JSON.parse(next) as Json));
      setError(null);
    } catch {
      setError(`Must be a JSON ${type}.`);
    }
  }
  return <JsonInput label={name} description={type} autosize minRows={2} maxRows={14} value={text} onChange={change} error={error} />;
}
