/** Writing a notification and sending it. */
import {
  Button,
  Group,
  JsonInput,
  NumberInput,
  SegmentedControl,
  Select,
  SimpleGrid,
  Stack,
  Text,
  Textarea,
  TextInput,
} from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { PageHead, Trouble } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { PhonePreview } from '../parts/phonePreview.js';
import { useAddressState, usePlace } from '../place.js';

type Draft = { title: string; body: string; badge: number | ''; sound: string; link: string; data: string };
type Kind = 'everyone' | 'user' | 'device';

/** Only what was filled in; null when the data is not JSON. */
function contentOf(draft: Draft) {
  try {
    return {
      title: draft.title,
      ...(draft.body ? { body: draft.body } : {}),
      ...(draft.badge === '' ? {} : { badge: draft.badge }),
      ...(draft.sound ? { sound: draft.sound } : {}),
      ...(draft.link ? { link: draft.link } : {}),
      ...(draft.data.trim() ? { data: JSON.parse(draft.data) } : {}),
    };
  } catch {
    return null;
  }
}

export function ComposePage() {
  const { params, base } = usePlace();
  const navigate = useNavigate();
  const [user, setUser] = useAddressState('user');
  const [device, setDevice] = useAddressState('device');
  const [kind, setKind] = useState<Kind>(user ? 'user' : device ? 'device' : 'everyone');
  const [draft, setDraft] = useState<Draft>({ title: '', body: '', badge: '', sound: '', link: '', data: '' });
  const set =
    <K extends keyof Draft>(name: K) =>
    (value: Draft[K]) =>
      setDraft((before) => ({ ...before, [name]: value }));
  const send = useChange(operations.notifications.sendManaged, ['notifications.']);
  const content = contentOf(draft);
  const audience = kind === 'user' ? { user } : kind === 'device' ? { device } : { everyone: true as const };
  const ready = content !== null && draft.title.trim() !== '' && (kind === 'everyone' || (kind === 'user' ? user : device) !== '');
  const body = { ...(content ?? { title: draft.title }), audience };
  const to = kind === 'everyone' ? '--everyone' : kind === 'user' ? `--user ${user}` : `--device ${device}`;
  return (
    <>
      <PageHead title="Compose" hint="A notification to everyone, one user or one device">
        <FromCode
          same={{
            command: `orchard notify send --app ${params.app} --env ${params.environment} --title "${draft.title}"${draft.body ? ` --body "${draft.body}"` : ''} ${to}`,
            method: 'POST',
            path: '/app/v1/notifications',
            body,
          }}
        />
      </PageHead>
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            send.mutate({ params, body }, { onSuccess: ({ id }) => navigate(`${base}/sent/${id}`) });
          }}
        >
          <Stack gap="sm">
            <div>
              <Text size="sm" fw={500} mb={4}>
                For
              </Text>
              <SegmentedControl
                aria-label="For whom"
                value={kind}
                onChange={(value) => setKind(value as Kind)}
                data={[
                  { value: 'everyone', label: 'Everyone' },
                  { value: 'user', label: 'One user' },
                  { value: 'device', label: 'One device' },
                ]}
              />
            </div>
            {kind === 'user' && <UserSelect value={user} onChange={setUser} />}
            {kind === 'device' && (
              <TextInput
                label="Device id"
                required
                classNames={{ input: 'mono' }}
                value={device}
                onChange={({ currentTarget }) => setDevice(currentTarget.value)}
              />
            )}
            <TextInput
              label="Title"
              required
              maxLength={200}
              value={draft.title}
              onChange={({ currentTarget }) => set('title')(currentTarget.value)}
            />
            <Textarea
              label="Body"
              autosize
              minRows={3}
              maxLength={2000}
              value={draft.body}
              onChange={({ currentTarget }) => set('body')(currentTarget.value)}
            />
            <Group grow align="flex-start">
              <NumberInput
                label="Badge"
                description="0 clears it"
                min={0}
                max={9999}
                allowDecimal={false}
                value={draft.badge}
                onChange={(value) => set('badge')(value === '' ? '' : Number(value))}
              />
              <TextInput
                label="Sound"
                description="A sound of the app"
                value={draft.sound}
                onChange={({ currentTarget }) => set('sound')(currentTarget.value)}
              />
            </Group>
            <TextInput
              label="Link"
              description="Where opening it leads: a URL, or a path in the app"
              placeholder="/huts/hollow-col"
              value={draft.link}
              onChange={({ currentTarget }) => set('link')(currentTarget.value)}
            />
            <JsonInput
              label="Data"
              description="JSON for the app"
              placeholder='{"hut":"hollow-col"}'
              autosize
              minRows={2}
              value={draft.data}
              onChange={set('data')}
              error={content === null ? 'This is not JSON.' : null}
            />
            <Trouble error={send.error} />
            <Group justify="flex-end">
              <Button type="submit" disabled={!ready} loading={send.isPending}>
                Send now
              </Button>
            </Group>
          </Stack>
        </form>
        <PhonePreview title={draft.title} body={draft.body} badge={draft.badge === '' ? null : draft.badge} />
      </SimpleGrid>
    </>
  );
}

function UserSelect({ value, onChange }: { value: string; onChange: (id: string | null) => void }) {
  const { params } = usePlace();
  const [search, setSearch] = useState('');
  const [wanted] = useDebouncedValue(search.replaceAll("'", "''"), 200);
  const found = useCall(operations.users.list, {
    params,
    query: { filter: `email LIKE '%${wanted}%' OR name LIKE '%${wanted}%'`, limit: 20 },
  });
  const chosen = useCall(operations.users.read, { params: { ...params, user: value } }, { enabled: value !== '' });
  const options = new Map((found.data?.items ?? []).map((user) => [user.id, `${user.name ?? ''} <${user.email}>`]));
  if (value && chosen.data?.id === value) options.set(value, `${chosen.data.name ?? ''} <${chosen.data.email}>`);
  return (
    <Select
      label="User"
      required
      searchable
      placeholder="Name or e-mail address"
      value={value || null}
      onChange={onChange}
      onSearchChange={setSearch}
      filter={({ options: all }) => all}
      data={[...options].map(([id, label]) => ({ value: id, label }))}
      nothingFoundMessage="Nobody of that name"
    />
  );
}
