/** A table cell that is edited in place: Enter and leaving it save, Escape cancels. */
import type { NamedField, OrchardRecord } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { type KeyboardEvent, useState } from 'react';
import { showValue } from './value.js';

/** Types with an editor of one line; the others are edited in the drawer. */
export const isEditable = ({ type }: NamedField): boolean => !['place', 'list', 'object'].includes(type);

type Props = { field: NamedField; record: OrchardRecord; onStore: (value: Json) => void };

export function Cell({ field, record, onStore }: Props) {
  const [editing, setEditing] = useState(false);
  const value = record[field.name] as Json;
  const numeric = field.type === 'integer' || field.type === 'number';
  if (!editing)
    return (
      <button
        type="button"
        className={`cell${numeric ? ' mono right' : ''}`}
        aria-label={`${field.name} of ${record.id}: ${showValue(value) || 'no value'}. Change it`}
        onClick={() => setEditing(true)}
      >
        {showValue(value) || '\u00a0'}
      </button>
    );
  return (
    <Editor
      field={field}
      record={record}
      onDone={(next) => {
        setEditing(false);
        if (next !== undefined && next !== value) onStore(next);
      }}
    />
  );
}

function read(field: NamedField, text: string): Json {
  if (text === '') return null;
  if (field.type === 'integer' || field.type === 'number') return Number(text);
  return field.type === 'boolean' ? text === 'true' : text;
}

function Editor({ field, record, onDone }: { field: NamedField; record: OrchardRecord; onDone: (value: Json | undefined) => void }) {
  const [text, setText] = useState(() =>
    record[field.name] === null || record[field.name] === undefined ? '' : String(record[field.name]),
  );
  const keys = (event: KeyboardEvent) => {
    if (event.key === 'Escape') onDone(undefined);
    if (event.key === 'Enter') onDone(read(field, text));
  };
  const common = {
    className: 'cell-editor',
    'aria-label': `${field.name} of ${record.id}`,
    autoFocus: true,
    onKeyDown: keys,
    onBlur: () => onDone(read(field, text)),
  };
  const options = field.choices ?? (field.type === 'boolean' ? ['true', 'false'] : null);
  if (options)
    return (
      <select {...common} value={text} onChange={({ currentTarget }) => setText(currentTarget.value)}>
        <option value="">no value</option>
        {options.map((option) => (
          <option key={option}>{option}</option>
        ))}
      </select>
    );
  const type = field.type === 'date' ? 'date' : field.type === 'integer' || field.type === 'number' ? 'number' : 'text';
  return (
    <input
      {...common}
      type={type}
      step={field.type === 'integer' ? 1 : 'any'}
      value={text}
      onChange={({ currentTarget }) => setText(currentTarget.value)}
      onFocus={({ currentTarget }) => currentTarget.select()}
    />
  );
}
