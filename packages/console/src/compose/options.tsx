/** How a notification is sent: when, how fast, how long it is kept, and what happens to those it does not reach. */
import { Checkbox, Group, NumberInput, Select, Stack, TextInput } from '@mantine/core';
import type { Draft } from './draft.js';

export function OptionFields({ draft, set }: { draft: Draft; set: (changes: Partial<Draft>) => void }) {
  return (
    <Stack gap="sm">
      <Group grow align="flex-start">
        <Select
          label="When"
          value={draft.when}
          onChange={(value) => set({ when: (value ?? 'now') as Draft['when'] })}
          data={[
            { value: 'now', label: 'Now' },
            { value: 'at', label: 'At a time in my time zone' },
            { value: 'local', label: 'At a local time of each recipient' },
          ]}
        />
        {draft.when !== 'now' && (
          <TextInput
            type="datetime-local"
            label="Time"
            required
            value={draft.at}
            onChange={({ currentTarget }) => set({ at: currentTarget.value })}
          />
        )}
      </Group>
      <Group grow align="flex-end">
        <Checkbox
          label="Respect quiet hours"
          checked={draft.quiet}
          onChange={({ currentTarget }) => set({ quiet: currentTarget.checked })}
        />
        {draft.quiet && (
          <Group gap="xs" wrap="nowrap">
            <TextInput
              type="time"
              label="From"
              value={draft.quietFrom}
              onChange={({ currentTarget }) => set({ quietFrom: currentTarget.value })}
            />
            <TextInput
              type="time"
              label="To"
              value={draft.quietTo}
              onChange={({ currentTarget }) => set({ quietTo: currentTarget.value })}
            />
          </Group>
        )}
      </Group>
      <Group grow align="flex-start">
        <NumberInput
          label="At most, per second"
          placeholder="no limit"
          min={1}
          value={draft.perSecond}
          onChange={(value) => set({ perSecond: value === '' ? '' : Number(value) })}
        />
        {draft.way === 'push' && (
          <Select
            label="Urgency"
            value={draft.urgency}
            onChange={(value) => set({ urgency: (value ?? 'normal') as Draft['urgency'] })}
            data={['very-low', 'low', 'normal', 'high']}
          />
        )}
      </Group>
      <Group grow align="flex-start">
        <NumberInput
          label="Time to live, hours"
          placeholder="24"
          min={0}
          max={672}
          value={draft.keptH}
          onChange={(value) => set({ keptH: value === '' ? '' : Number(value) })}
        />
        {draft.way === 'push' && (
          <TextInput
            label="Replaces an earlier one with the name"
            placeholder="ridge-status"
            maxLength={32}
            value={draft.replaces}
            onChange={({ currentTarget }) => set({ replaces: currentTarget.value })}
          />
        )}
      </Group>
      {draft.way === 'push' && (
        <Group grow align="flex-start">
          <Select
            label="If not received, also send"
            value={draft.fallBack}
            onChange={(value) => set({ fallBack: (value ?? '') as Draft['fallBack'] })}
            data={[
              { value: '', label: 'nothing' },
              { value: 'sms', label: 'an SMS' },
              { value: 'mail', label: 'a mail' },
            ]}
          />
          {draft.fallBack && (
            <NumberInput
              label="After minutes"
              min={1}
              max={10_080}
              value={draft.fallBackMin}
              onChange={(value) => set({ fallBackMin: Number(value) || 10 })}
            />
          )}
        </Group>
      )}
      {draft.way === 'push' && draft.fallBack && (
        <TextInput
          label="Text of that message"
          placeholder="same as the notification"
          maxLength={2000}
          value={draft.fallBackBody}
          onChange={({ currentTarget }) => set({ fallBackBody: currentTarget.value })}
        />
      )}
    </Stack>
  );
}
