/** Access rules: a preset or any condition for each action, checked while it is typed, and tried before it is saved. */
import { Button, Group, NativeSelect, Stack, Text, Title } from '@mantine/core';
import { type Collection, operations } from '@orchard/contract';
import { FilterError, presetOf, readFilter, RECORD_ACTIONS, type RecordAction, RULE_PRESETS, type RulePreset } from '@orchard/core';
import { useState } from 'react';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { FilterInput, type Names, scopeOfNames } from '../parts/filterBar.js';
import { useEnvironment } from '../environment.js';
import { namesOf } from './names.js';
import { TryRecordRule } from './tryRule.js';

const ACTION_WORDS = { read: 'Read', create: 'Create', update: 'Change', delete: 'Delete' } as const;
const PRESET_WORDS: Record<RulePreset, string> = {
  everyone: 'everyone',
  'signed-in': 'every signed-in user',
  owner: 'the owner of the record',
  nobody: 'nobody',
};

export function Rules({ collection, all }: { collection: Collection; all: Collection[] }) {
  const names = namesOf(collection, all);
  return (
    <Stack gap="lg" maw={860}>
      <Text c="dimmed" size="sm">
        Rules apply to calls with a client key. Server keys (by scope) and members (by role) are exempt. An update must pass for the record
        both before and after the change.
      </Text>
      {RECORD_ACTIONS.map((action) => (
        <RuleEditor key={`${action} ${collection.rules[action]}`} collection={collection} action={action} names={names} />
      ))}
    </Stack>
  );
}

/** A rule as one of the presets, or any condition. @param none what it means to have no rule, where that is possible */
export function RuleInput({
  who,
  label,
  rule,
  onChange,
  names,
  none,
}: {
  who: string;
  label: string;
  rule: string;
  onChange: (rule: string) => void;
  names: Names;
  none?: string;
}) {
  const preset = presetOf(rule);
  const chosen = none !== undefined && rule === '' ? NO_RULE : (preset ?? '');
  return (
    <Group gap="sm" align="flex-start">
      <NativeSelect
        aria-label={who}
        value={chosen}
        onChange={({ currentTarget: { value } }) =>
          onChange(value === NO_RULE ? '' : value ? RULE_PRESETS[value as RulePreset] : rule || "ownerId = me('id')")
        }
        data={[
          ...(none === undefined ? [] : [{ value: NO_RULE, label: none }]),
          ...Object.entries(PRESET_WORDS).map(([value, text]) => ({ value, label: text })),
          { value: '', label: 'Only when' },
        ]}
      />
      <div style={{ flex: 1, minWidth: '18rem' }}>
        <FilterInput label={label} value={rule} onChange={onChange} names={names} placeholder="ownerId = me('id')" />
      </div>
    </Group>
  );
}
const NO_RULE = 'none';

function problemOf(rule: string, names: Names): string | null {
  try {
    readFilter(rule, scopeOfNames(names));
    return null;
  } catch (error) {
    if (error instanceof FilterError) return error.message;
    throw error;
  }
}

function RuleEditor({ collection, action, names }: { collection: Collection; action: RecordAction; names: Names }) {
  const { params } = useEnvironment();
  const inForce = collection.rules[action];
  const [rule, setRule] = useState(inForce);
  const [trying, setTrying] = useState(false);
  const patch = useChange(operations.collections.patch);
  const problem = problemOf(rule, names);
  return (
    <section className="panel">
      <Group align="flex-start" gap="sm" wrap="nowrap">
        <Title order={2} size="h3" w={74} pt={6}>
          {ACTION_WORDS[action]}
        </Title>
        <Stack gap="xs" style={{ flex: 1 }}>
          <RuleInput who={`Who may ${action}`} label={`Rule to ${action}`} rule={rule} onChange={setRule} names={names} />
          <Group gap="xs">
            <Button
              size="xs"
              disabled={rule === inForce || problem !== null}
              loading={patch.isPending}
              onClick={() => patch.mutate({ params: { ...params, collection: collection.name }, body: { rules: { [action]: rule } } })}
            >
              Save rule
            </Button>
            {rule !== inForce && (
              <Button size="xs" variant="subtle" onClick={() => setRule(inForce)}>
                Discard changes
              </Button>
            )}
            <Button size="xs" variant="default" onClick={() => setTrying(!trying)} aria-expanded={trying}>
              Try as …
            </Button>
          </Group>
          <Trouble error={patch.error} />
          {trying && <TryRecordRule collection={collection} action={action} rule={rule} />}
        </Stack>
      </Group>
    </section>
  );
}
