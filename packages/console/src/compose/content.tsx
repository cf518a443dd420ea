/** What a notification says: the base, its languages, and the second content of a comparison. */
import {
  ActionIcon,
  Button,
  Checkbox,
  Collapse,
  Group,
  JsonInput,
  NumberInput,
  Select,
  Stack,
  Text,
  Textarea,
  TextInput,
} from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { planSms } from '@orchard/core/reach';
import { IconX } from '@tabler/icons-react';
import { contentOf, type Draft } from './draft.js';

type Props = { draft: Draft; set: (changes: Partial<Draft>) => void };
type TextField = 'title' | 'body' | 'html' | 'badge' | 'sound' | 'picture' | 'link' | 'category' | 'buttons';

/** How a short message would go, while it is typed. */
function SmsPlan({ text }: { text: string }) {
  const { encoding, segments, left, forcing } = planSms(text);
  return (
    <Text size="sm" c="dimmed" aria-live="polite">
      {segments} segment{segments === 1 ? '' : 's'}, {left} letters left in the last.{' '}
      {encoding === 'ucs2' && (
        <span className="care">
          {forcing.map((letter) => `“${letter}”`).join(' ')} {forcing.length === 1 ? 'is' : 'are'} not in the GSM alphabet: a message holds
          70 letters instead of 160.
        </span>
      )}
    </Text>
  );
}

export function ContentFields({ draft, set }: Props) {
  const [more, { toggle }] = useDisclosure(false);
  const field = (name: TextField) => ({
    value: draft[name],
    onChange: ({ currentTarget }: { currentTarget: { value: string } }) => set({ [name]: currentTarget.value }),
  });
  return (
    <Stack gap="sm">
      {draft.way !== 'sms' && (
        <TextInput
          label={draft.way === 'mail' ? 'Subject' : 'Title'}
          description="{user.name|hiker}, {device.platform}, {data.hut}: variables"
          required={!draft.silent}
          maxLength={200}
          {...field('title')}
        />
      )}
      <Textarea
        label={draft.way === 'sms' ? 'Text' : 'Body'}
        required={draft.way === 'sms'}
        autosize
        minRows={3}
        maxLength={2000}
        {...field('body')}
      />
      {draft.way === 'sms' && <SmsPlan text={draft.body} />}
      {draft.way === 'mail' && (
        <Textarea
          label="HTML"
          description="Beside the text, for mail programs that show it"
          autosize
          minRows={3}
          classNames={{ input: 'mono' }}
          {...field('html')}
        />
      )}
      {draft.way === 'push' && (
        <>
          <Group grow align="flex-start">
            <TextInput label="Badge" description="0 clears, +1 adds one" {...field('badge')} />
            <TextInput label="Link" description="A URL, or a path in the app" placeholder="/huts/hollow-col" {...field('link')} />
          </Group>
          <Button variant="subtle" size="compact-sm" onClick={toggle} aria-expanded={more} style={{ alignSelf: 'flex-start' }}>
            {more ? 'Less' : 'Picture, sound, buttons, category, data'}
          </Button>
          <Collapse expanded={more}>
            <Stack gap="sm">
              <TextInput label="Picture" placeholder="https://…" {...field('picture')} />
              <Group grow align="flex-start">
                <TextInput label="Sound" description="A sound of the app" {...field('sound')} />
                <TextInput label="Category" {...field('category')} />
              </Group>
              <TextInput label="Buttons" description="Up to four, comma-separated" placeholder="Show huts, Later" {...field('buttons')} />
              <JsonInput
                label="Data"
                description="JSON for the app"
                placeholder='{"hut":"hollow-col"}'
                autosize
                minRows={2}
                value={draft.data}
                onChange={(data) => set({ data })}
                error={contentOf(draft) === null ? 'This is not JSON.' : null}
              />
              <Checkbox
                label="Silent: wakes the app without showing anything"
                checked={draft.silent}
                onChange={({ currentTarget }) => set({ silent: currentTarget.checked })}
              />
            </Stack>
          </Collapse>
        </>
      )}
      <Languages draft={draft} set={set} />
      {draft.way === 'push' && <Comparison draft={draft} set={set} />}
    </Stack>
  );
}

function Languages({ draft, set }: Props) {
  const change = (i: number, changes: Partial<Draft['locales'][number]>) =>
    set({ locales: draft.locales.map((one, at) => (at === i ? { ...one, ...changes } : one)) });
  return (
    <div>
      {draft.locales.map((variant, i) => (
        <Group key={`language ${String(i)}`} align="flex-end" gap="xs" wrap="nowrap" mb={6}>
          <TextInput
            label="Language"
            placeholder="nb"
            w={90}
            value={variant.tag}
            onChange={({ currentTarget }) => change(i, { tag: currentTarget.value })}
          />
          {draft.way !== 'sms' && (
            <TextInput
              label="Title"
              style={{ flex: 1 }}
              value={variant.title}
              onChange={({ currentTarget }) => change(i, { title: currentTarget.value })}
            />
          )}
          <TextInput
            label="Body"
            style={{ flex: 2 }}
            value={variant.body}
            onChange={({ currentTarget }) => change(i, { body: currentTarget.value })}
          />
          <ActionIcon
            variant="subtle"
            aria-label={`Remove ${variant.tag || 'language'}`}
            onClick={() => set({ locales: draft.locales.filter((_, at) => at !== i) })}
          >
            <IconX size={16} />
          </ActionIcon>
        </Group>
      ))}
      <Button variant="subtle" size="compact-sm" onClick={() => set({ locales: [...draft.locales, { tag: '', title: '', body: '' }] })}>
        Add a language
      </Button>
    </div>
  );
}

function Comparison({ draft, set }: Props) {
  const { second } = draft;
  if (!second)
    return (
      <Button
        variant="subtle"
        size="compact-sm"
        style={{ alignSelf: 'flex-start' }}
        onClick={() => set({ second: { share: 50, title: '', body: '' } })}
      >
        Compare with a second content
      </Button>
    );
  const change = (changes: Partial<typeof second>) => set({ second: { ...second, ...changes } });
  return (
    <Group align="flex-end" gap="xs" wrap="nowrap">
      <NumberInput
        label="Second, % of devices"
        w={150}
        min={1}
        max={99}
        value={second.share}
        onChange={(value) => change({ share: Number(value) || 50 })}
      />
      <TextInput
        label="Title"
        style={{ flex: 1 }}
        value={second.title}
        onChange={({ currentTarget }) => change({ title: currentTarget.value })}
      />
      <TextInput
        label="Body"
        style={{ flex: 2 }}
        value={second.body}
        onChange={({ currentTarget }) => change({ body: currentTarget.value })}
      />
      <ActionIcon variant="subtle" aria-label="No comparison" onClick={() => set({ second: null })}>
        <IconX size={16} />
      </ActionIcon>
    </Group>
  );
}

export function OptionFields({ draft, set }: Props) {
  return (
    <Stack gap="sm">
      <Group grow align="flex-start">
        <Select
          label="When"
          value={draft.when}
          onChange={(value) => set({ when: (value ?? 'now') as Draft['when'] })}
          data={[
            { value: 'now', label: 'Now' },
            { value: 'at', label: 'At a time, here' },
            { value: 'local', label: 'At a time on each recipient’s clock' },
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
          label="Not in quiet hours of the recipient"
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
          label="At most, a second"
          placeholder="as fast as it goes"
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
      {draft.way === 'push' && (
        <Group grow align="flex-start">
          <Select
            label="Who has not received it gets"
            value={draft.fallBack}
            onChange={(value) => set({ fallBack: (value ?? '') as Draft['fallBack'] })}
            data={[
              { value: '', label: 'nothing else' },
              { value: 'sms', label: 'an SMS' },
              { value: 'mail', label: 'a mail' },
            ]}
          />
          {draft.fallBack && (
            <NumberInput
              label="after minutes"
              min={1}
              max={10_080}
              value={draft.fallBackMin}
              onChange={(value) => set({ fallBackMin: Number(value) || 10 })}
            />
          )}
        </Group>
      )}
    </Stack>
  );
}
