/** The filter bar of a list: CQL2 as text with completion and marked errors, and chips for its parts. */
import { ActionIcon, Button, Chip, Combobox, Group, NativeSelect, Popover, Stack, Text, TextInput, useCombobox } from '@mantine/core';
import { useDebouncedCallback } from '@mantine/hooks';
import { FilterError, type FilterScope, isCall, parseFilter, readFilter, type ValueKind, writeFilterText } from '@orchard/core';
import { IconFilter, IconPlus, IconX } from '@tabler/icons-react';
import { useEffect, useRef, useState } from 'react';
import type { ListState, Preset } from './listState.js';

/** The fields of a list, for completion and checks while typing; without them only the service checks. */
export type Names = ReadonlyMap<string, { kind: ValueKind; choices?: readonly string[] | undefined }> & {
  /** The texts that `search` looks into. */
  searched?: readonly string[];
};

/** Paths of more than one reference are left to the service, which knows every collection. */
export const scopeOfNames = (names: Names): FilterScope => ({
  kindOf: (path) => (path.length > 2 ? 'text' : (names.get(path.join('.'))?.kind ?? null)),
  names: () => names.keys(),
  ...(names.searched ? { search: names.searched } : {}),
});

/** What is wrong with a filter, and at which character. */
function checkText(text: string, names: Names | undefined): { message: string; at: number } | null {
  // Which fields of users the team has defined, only the service knows.
  if (!names || !text.trim() || /\bme\('(?!id'|roles')/.test(text)) return null;
  try {
    readFilter(text, scopeOfNames(names));
    return null;
  } catch (error) {
    if (!(error instanceof FilterError)) throw error;
    return {
      message: error.message.replace(/ \(at [^(]*\)$/, '').replace(/([^?.])$/, '$1.'),
      at: typeof error.position === 'number' ? error.position : 0,
    };
  }
}

const OPERATORS: Record<ValueKind, string[]> = {
  text: ['=', '<>', 'LIKE', 'IN', 'IS NULL', 'IS NOT NULL'],
  number: ['=', '<>', '<', '<=', '>', '>=', 'BETWEEN', 'IS NULL', 'IS NOT NULL'],
  boolean: ['=', 'IS NULL', 'IS NOT NULL'],
  date: ['=', '<', '<=', '>', '>=', 'IS NULL', 'IS NOT NULL'],
  time: ['<', '<=', '>', '>=', 'IS NULL', 'IS NOT NULL'],
  place: ['IS NULL', 'IS NOT NULL'],
  list: ['IS NULL', 'IS NOT NULL'],
  object: ['IS NULL', 'IS NOT NULL'],
};
const FUNCTIONS = ["search('", 'any(', 'all(', 'distance(', 'now()', 'CASEI(', 'ACCENTI(', 'S_WITHIN(', 'A_CONTAINS(', 'T_DURING('];

/** Completions for the end of a text: operators after a field, values after an operator, fields elsewhere. */
export function completions(before: string, names: Names): { from: number; words: string[] } {
  const word = /[\w.]*$/.exec(before)?.[0] ?? '';
  const from = before.length - word.length;
  const rest = before.slice(0, from);
  if ((rest.match(/'/g)?.length ?? 0) % 2 === 1) return { from, words: [] };
  const starting = (words: string[]) => words.filter((one) => one.toLowerCase().startsWith(word.toLowerCase()) && one !== word);
  const [, field, operator] = /([\w.]+)\s+(=|<>|<=?|>=?|LIKE|IN)?\s*$/i.exec(rest) ?? [];
  const known = field ? names.get(field) : undefined;
  if (known && operator) {
    const values =
      known.choices?.map((choice) => `'${choice}'`) ??
      (known.kind === 'boolean' ? ['TRUE', 'FALSE'] : known.kind === 'time' ? ['now()'] : []);
    return { from, words: starting(values) };
  }
  if (known) return { from, words: starting(OPERATORS[known.kind]) };
  if (/('|\d|\)|TRUE|FALSE|NULL)\s+$/i.test(rest)) return { from, words: starting(['AND', 'OR']) };
  return { from, words: [...starting([...names.keys()]), ...(word ? starting(FUNCTIONS) : [])].slice(0, 12) };
}

export function FilterInput({
  value,
  onChange,
  onApply,
  names,
  placeholder,
  error,
  label = 'Filter',
}: {
  value: string;
  onChange: (text: string) => void;
  onApply?: () => void;
  names: Names | undefined;
  placeholder?: string;
  error?: string | null;
  label?: string;
}) {
  const combobox = useCombobox({ onDropdownClose: () => combobox.resetSelectedOption() });
  const input = useRef<HTMLInputElement>(null);
  const [caret, setCaret] = useState(value.length);
  const problem = checkText(value, names);
  const { from, words } = names ? completions(value.slice(0, caret), names) : { from: 0, words: [] };
  function take(word: string): void {
    const next = `${value.slice(0, from)}${word}${word.endsWith('(') ? '' : ' '}${value.slice(caret)}`;
    onChange(next);
    const at = from + word.length + (word.endsWith('(') ? 0 : 1);
    setCaret(at);
    requestAnimationFrame(() => input.current?.setSelectionRange(at, at));
  }
  // An unfinished word that starts a completion is not an error yet.
  const typing = problem !== null && words.length > 0 && problem.at >= from && caret === value.length;
  const message = problem && !typing ? problem.message : problem ? null : error;
  return (
    <Combobox store={combobox} onOptionSubmit={take} offset={2}>
      <Combobox.Target>
        <TextInput
          ref={input}
          aria-label={label}
          placeholder={placeholder ?? ''}
          value={value}
          autoComplete="off"
          spellCheck={false}
          classNames={{ input: 'mono' }}
          leftSection={<IconFilter size={16} />}
          error={
            message ? (
              <>
                {problem && problem.at < 90 && (
                  <span className="filter-mark" aria-hidden="true">
                    {' '.repeat(problem.at)}▲
                  </span>
                )}
                {message}
              </>
            ) : null
          }
          onChange={({ currentTarget }) => {
            onChange(currentTarget.value);
            setCaret(currentTarget.selectionStart ?? currentTarget.value.length);
            combobox.openDropdown();
          }}
          onSelect={({ currentTarget }) => setCaret(currentTarget.selectionStart ?? 0)}
          onFocus={() => combobox.openDropdown()}
          onClick={() => combobox.openDropdown()}
          onBlur={() => combobox.closeDropdown()}
          onKeyDown={(event) => {
            if (event.key === 'Enter' && combobox.getSelectedOptionIndex() < 0) onApply?.();
            if (event.key === 'Tab' && words[0] && combobox.dropdownOpened && caret > from) {
              event.preventDefault();
              take(words[0]);
            }
          }}
        />
      </Combobox.Target>
      <Combobox.Dropdown hidden={words.length === 0} maw="24rem">
        <Combobox.Options mah={220} style={{ overflowY: 'auto' }} aria-label="Completions">
          {words.map((word) => (
            <Combobox.Option key={word} value={word} className="mono">
              {word}
            </Combobox.Option>
          ))}
        </Combobox.Options>
      </Combobox.Dropdown>
    </Combobox>
  );
}

/** The conditions that are joined by AND; any other filter is a single condition. */
export function partsOf(filter: string): string[] {
  if (!filter.trim()) return [];
  try {
    const tree = parseFilter(filter);
    return isCall(tree, 'and')
      ? tree.args.map((part) => (isCall(part, 'or') ? `(${writeFilterText(part)})` : writeFilterText(part)))
      : [writeFilterText(tree)];
  } catch {
    return [];
  }
}
/** Adds a condition; one that joins by OR is put in parentheses first. */
export function withCondition(filter: string, condition: string): string {
  const parts = partsOf(filter);
  const [first] = parts;
  if (parts.length === 1 && first && isCall(parseFilter(first), 'or')) return `(${first}) AND ${condition}`;
  return [...parts, condition].join(' AND ');
}

export function FilterBar({
  state,
  presets,
  example,
  error,
  names,
  children,
}: {
  state: ListState;
  presets: Preset[];
  example: string;
  error: string | null;
  names?: Names | undefined;
  children?: React.ReactNode;
}) {
  const [text, setText] = useState(state.filter);
  useEffect(() => setText(state.filter), [state.filter]);
  const apply = useDebouncedCallback((value: string) => {
    if (!checkText(value, names)) state.setFilter(value);
  }, 600);
  const parts = partsOf(state.filter);
  return (
    <Stack gap={6} mb="sm">
      <Group align="flex-start" gap="sm">
        <div style={{ flex: '1 1 20rem', maxWidth: '48rem' }}>
          <FilterInput
            value={text}
            names={names}
            placeholder={example}
            error={error}
            onApply={() => state.setFilter(text)}
            onChange={(next) => {
              setText(next);
              apply(next);
            }}
          />
        </div>
        {children}
      </Group>
      <Group gap={6}>
        {names && <AddCondition names={names} onAdd={(condition) => state.setFilter(withCondition(state.filter, condition))} />}
        {names &&
          parts.length > 0 &&
          parts.map((part, i) => (
            <Part key={part} text={part} onRemove={() => state.setFilter(parts.filter((_, at) => at !== i).join(' AND ') || null)} />
          ))}
        {presets.map((preset) => (
          <Chip
            key={preset.label}
            size="xs"
            checked={state.filter === preset.filter}
            onChange={(on) => state.setFilter(on ? preset.filter : null)}
          >
            {preset.label}
          </Chip>
        ))}
      </Group>
    </Stack>
  );
}

function Part({ text, onRemove }: { text: string; onRemove: () => void }) {
  return (
    <span className="filter-part mono">
      {text}
      <ActionIcon size="xs" variant="subtle" color="gray" c="inherit" aria-label={`Remove ${text}`} onClick={onRemove}>
        <IconX size={12} />
      </ActionIcon>
    </span>
  );
}

const literal = (kind: ValueKind, text: string): string =>
  kind === 'number' || kind === 'boolean'
    ? text
    : kind === 'date'
      ? `DATE('${text}')`
      : kind === 'time'
        ? `TIMESTAMP('${text}')`
        : `'${text.replaceAll("'", "''")}'`;

/** Builds one condition from menus. */
function AddCondition({ names, onAdd }: { names: Names; onAdd: (condition: string) => void }) {
  const [opened, setOpened] = useState(false);
  const [field, setField] = useState('');
  const [operator, setOperator] = useState('');
  const [value, setValue] = useState('');
  const known = names.get(field);
  const operators = known ? OPERATORS[known.kind].filter((one) => one !== 'IN' && one !== 'BETWEEN') : [];
  const chosen = operators.includes(operator) ? operator : (operators[0] ?? '');
  const bare = chosen.startsWith('IS');
  const options = known?.choices ?? (known?.kind === 'boolean' ? ['TRUE', 'FALSE'] : undefined);
  const given = options ? value || options[0] || '' : value;
  function add(): void {
    if (!known) return;
    onAdd(bare ? `${field} ${chosen}` : `${field} ${chosen} ${literal(known.kind, given)}`);
    setOpened(false);
    setValue('');
  }
  return (
    <Popover opened={opened} onChange={setOpened} position="bottom-start" trapFocus>
      <Popover.Target>
        <Button size="compact-xs" variant="default" leftSection={<IconPlus size={12} />} onClick={() => setOpened(!opened)}>
          Condition
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            add();
          }}
        >
          <Group gap="xs" align="flex-end">
            <NativeSelect
              label="Field"
              size="xs"
              value={field}
              onChange={({ currentTarget }) => setField(currentTarget.value)}
              data={['', ...names.keys()]}
            />
            <NativeSelect
              label="Is"
              size="xs"
              value={chosen}
              onChange={({ currentTarget }) => setOperator(currentTarget.value)}
              data={operators}
            />
            {!bare &&
              known &&
              (options ? (
                <NativeSelect
                  label="Value"
                  size="xs"
                  value={given}
                  onChange={({ currentTarget }) => setValue(currentTarget.value)}
                  data={[...options]}
                />
              ) : (
                <TextInput
                  label="Value"
                  size="xs"
                  value={value}
                  type={known.kind === 'date' ? 'date' : known.kind === 'number' ? 'number' : 'text'}
                  step="any"
                  placeholder={known.kind === 'time' ? '2026-07-14T06:00:00Z' : ''}
                  onChange={({ currentTarget }) => setValue(currentTarget.value)}
                />
              ))}
            <Button size="xs" type="submit" disabled={!known || (!bare && given === '')}>
              Add
            </Button>
          </Group>
          {chosen === 'LIKE' && (
            <Text size="xs" c="dimmed" mt={4}>
              % stands for any characters, _ for one
            </Text>
          )}
        </form>
      </Popover.Dropdown>
    </Popover>
  );
}
