/** The content of a notification. */
import { Button, Checkbox, Collapse, Group, JsonInput, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { planSms } from '@orchard/core/messages';
import { type Draft, isJson } from './draft.js';
import { Variants } from './variants.js';

type Props = { draft: Draft; set: (changes: Partial<Draft>) => void };
type TextField = 'title' | 'body' | 'html' | 'badge' | 'sound' | 'picture' | 'link' | 'category' | 'buttons';

/** Encoding and segments of a short message, while it is typed. */
function SmsPlan({ text }: { text: string }) {
  const { encoding, segments, left, forcing } = planSms(text);
  return (
    <Text size="sm" c="dimmed" aria-live="polite">
      {segments} segment{segments === 1 ? '' : 's'}, {left} characters left in the last.{' '}
      {encoding === 'ucs2' && (
        <span className="care">
          {forcing.map((letter) => `“${letter}”`).join(' ')} {forcing.length === 1 ? 'is' : 'are'} not in the GSM alphabet: a message holds
          70 characters instead of 160.
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
          description="Variables: {user.name|hiker}, {device.platform}, {data.hut}"
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
                error={isJson(draft.data) ? null : 'This is not JSON.'}
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
      <Variants draft={draft} set={set} />
    </Stack>
  );
}
