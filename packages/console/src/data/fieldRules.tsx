/** Who may set a field and who may see it, besides the team and its servers: the editor of rules, with “try as”. */
import { Button, Group, Stack, Text } from '@mantine/core';
import type { Collection } from '@orchard/contract';
import { useState } from 'react';
import type { Names } from '../parts/filterBar.js';
import { RuleInput } from './rules.js';
import { TryRecordRule } from './tryRule.js';

export const FIELD_RULES = ['seenBy', 'setBy'] as const;
export type FieldRules = Record<(typeof FIELD_RULES)[number], string>;
const WORDS = {
  seenBy: { who: 'Who may see it', none: 'whoever may read the record', action: 'see' },
  setBy: { who: 'Who may set it', none: 'whoever may write the record', action: 'set' },
} as const;

/** @param field the name of a field that exists; null for a new one, which cannot be tried */
export function FieldRulesInput({
  collection,
  field,
  names,
  rules,
  onChange,
}: {
  collection: Collection;
  field: string | null;
  names: Names;
  rules: FieldRules;
  onChange: (change: Partial<FieldRules>) => void;
}) {
  const [trying, setTrying] = useState<(typeof FIELD_RULES)[number] | null>(null);
  return (
    <Stack gap="xs">
      {FIELD_RULES.map((which) => {
        const { who, none, action } = WORDS[which];
        return (
          <div key={which}>
            <Group justify="space-between">
              <Text size="sm" fw={500}>
                {who}
              </Text>
              {field && rules[which] !== '' && (
                <Button
                  size="compact-xs"
                  variant="subtle"
                  aria-expanded={trying === which}
                  onClick={() => setTrying(trying === which ? null : which)}
                >
                  Try as …
                </Button>
              )}
            </Group>
            <RuleInput
              who={who}
              label={`Rule to ${action} it`}
              none={none}
              rule={rules[which]}
              onChange={(rule) => onChange({ [which]: rule })}
              names={names}
            />
            {field && trying === which && <TryRecordRule collection={collection} action={action} field={field} rule={rules[which]} />}
          </div>
        );
      })}
    </Stack>
  );
}
