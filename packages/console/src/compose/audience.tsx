/** The audience of a notification, with a live count of reachable recipients. */
import { Group, MultiSelect, SegmentedControl, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { type AudiencePreview, operations } from '@orchard/contract';
import { useState } from 'react';
import { describeError, useCall } from '../api.js';
import { Moment } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { useEnvironment } from '../environment.js';
import { DidPicker } from './didPicker.js';
import { type AudienceKind, audienceOf, contentOf, type Draft } from './draft.js';

type Props = { draft: Draft; set: (changes: Partial<Draft>) => void };

export function AudienceFields({ draft, set }: Props) {
  const { params } = useEnvironment();
  const topics = useCall(operations.topics.list, { params, query: { limit: 500 } });
  const names = (topics.data?.items ?? []).map(({ name, devices, users }) => ({
    value: name,
    label: `${name} (${count(devices + users)})`,
  }));
  const kinds: [AudienceKind, string][] = [
    ['everyone', 'Everyone'],
    ['topics', 'Topics'],
    ['filter', 'Filter'],
    ['users', 'Users'],
    ...(draft.way === 'push'
      ? [['devices', 'Devices'] as [AudienceKind, string]]
      : [['addresses', draft.way === 'sms' ? 'Numbers' : 'Addresses'] as [AudienceKind, string]]),
  ];
  return (
    <Stack gap="xs">
      <div>
        <Text size="sm" fw={500} mb={4}>
          Recipients
        </Text>
        <SegmentedControl
          aria-label="Recipients by"
          value={draft.audience}
          onChange={(value) => set({ audience: value as AudienceKind })}
          data={kinds.map(([value, label]) => ({ value, label }))}
        />
      </div>
      {draft.audience === 'topics' && (
        <>
          <TopicsSelect label="Followers of any of" names={names} value={draft.topics} onChange={(value) => set({ topics: value })} />
          <Group grow align="flex-start">
            <TopicsSelect label="And of all of" names={names} value={draft.allTopics} onChange={(value) => set({ allTopics: value })} />
            <TopicsSelect
              label="But not followers of"
              names={names}
              value={draft.notTopics}
              onChange={(value) => set({ notTopics: value })}
            />
          </Group>
        </>
      )}
      {(draft.audience === 'filter' || draft.audience === 'topics') && (
        <>
          <TextInput
            label={draft.audience === 'filter' ? 'Devices that match' : 'And only devices that match'}
            description="CQL2 over platform, os, appVersion, model, locale, country, timeZone, lastSeenAt, …"
            placeholder="platform = 'ios' AND appVersion < '2.4.1'"
            classNames={{ input: 'mono' }}
            value={draft.filter}
            onChange={({ currentTarget }) => set({ filter: currentTarget.value })}
          />
          <DidPicker onAdd={(condition) => set({ filter: draft.filter.trim() ? `${draft.filter.trim()} AND ${condition}` : condition })} />
        </>
      )}
      {draft.audience === 'users' && <UsersSelect value={draft.users} onChange={(users) => set({ users })} />}
      {draft.audience === 'devices' && (
        <Textarea
          label="Device ids"
          description="One per line"
          required
          autosize
          minRows={1}
          classNames={{ input: 'mono' }}
          value={draft.devices}
          onChange={({ currentTarget }) => set({ devices: currentTarget.value })}
        />
      )}
      {draft.audience === 'addresses' && (
        <Textarea
          label={draft.way === 'sms' ? 'Numbers' : 'Addresses'}
          description={draft.way === 'sms' ? 'With + and calling code, one per line' : 'One per line'}
          autosize
          minRows={2}
          classNames={{ input: 'mono' }}
          value={draft.addresses}
          onChange={({ currentTarget }) => set({ addresses: currentTarget.value })}
        />
      )}
    </Stack>
  );
}

type TopicsProps = { label: string; names: { value: string; label: string }[]; value: string[]; onChange: (value: string[]) => void };
function TopicsSelect({ names, ...rest }: TopicsProps) {
  return <MultiSelect data={names} searchable {...rest} />;
}

function UsersSelect({ value, onChange }: { value: string[]; onChange: (ids: string[]) => void }) {
  const { params } = useEnvironment();
  const [search, setSearch] = useState('');
  const [wanted] = useDebouncedValue(search.replaceAll("'", "''"), 200);
  const found = useCall(operations.users.list, {
    params,
    query: { filter: `email LIKE '%${wanted}%' OR name LIKE '%${wanted}%'`, limit: 20 },
  });
  const ids = value.map((id) => `'${id}'`).join(', ');
  const chosen = useCall(operations.users.list, { params, query: { filter: `id IN (${ids})`, limit: 500 } }, { enabled: value.length > 0 });
  // Users whose names are not loaded yet are shown by id.
  const options = new Map(value.map((id) => [id, id]));
  for (const user of [...(chosen.data?.items ?? []), ...(found.data?.items ?? [])])
    options.set(user.id, `${user.name ?? ''} <${user.email}>`);
  return (
    <MultiSelect
      label="Users"
      required
      searchable
      hidePickedOptions
      placeholder="Name or e-mail address"
      value={value}
      onChange={onChange}
      onSearchChange={setSearch}
      filter={({ options: all }) => all}
      data={[...options].map(([id, label]) => ({ value: id, label }))}
      nothingFoundMessage="No user matches"
    />
  );
}

/** The preview of the draft, requested shortly after the last keystroke. */
export function usePreview(draft: Draft) {
  const { params } = useEnvironment();
  const audience = audienceOf(draft);
  const body = { ...contentOf(draft), audience: audience ?? { everyone: true as const }, way: draft.way };
  const [asked] = useDebouncedValue(JSON.stringify(body), 350);
  return useCall(operations.notifications.previewManaged, { params, body: JSON.parse(asked) }, { enabled: audience !== null });
}

type ReachProps = { seen: AudiencePreview | undefined; error: unknown; missing: boolean; broken?: boolean };

/**
 * Reachable recipients by platform, unreachable ones by reason, size and cost.
 * @param broken the content cannot be read, so its size is unknown
 */
export function Reach({ seen, error, missing, broken }: ReachProps) {
  if (missing) return <Text size="sm">Choose the recipients.</Text>;
  if (error)
    return (
      <Text size="sm" className="care" role="alert">
        {describeError(error)}
      </Text>
    );
  if (!seen) return <Text size="sm">Counting…</Text>;
  return (
    <div aria-live="polite">
      <p style={{ margin: 0 }}>
        <span className="number">{count(seen.reachable)}</span>{' '}
        <Text span size="sm" c="dimmed">
          of {count(seen.total)} reachable
        </Text>
      </p>
      <table className="plain">
        <tbody>
          {seen.platforms.map(({ platform, gateway, count: number }) => (
            <tr key={`${platform} ${gateway}`}>
              <td className="right mono">{count(number)}</td>
              <td>
                {platform === gateway || ['sms', 'mail'].includes(platform) ? '' : platform} through {gateway}
              </td>
            </tr>
          ))}
          {seen.unreachable.map(({ platform, reason, count: number }) => (
            <tr key={`${platform} ${reason}`} className="care">
              <td className="right mono">{count(number)}</td>
              <td>
                {['sms', 'mail'].includes(platform) ? '' : `${platform}: `}
                {reason}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {seen.allowed && seen.reachable > 0 && (
        <Text size="sm" c="dimmed">
          {count(seen.allowed.alert)} show it, {count(seen.allowed.sound)} sound it, {count(seen.allowed.badge)} put a number on the icon
        </Text>
      )}
      {seen.behaviourAt && (
        <Text size="sm" c="dimmed">
          By what people did up to <Moment at={seen.behaviourAt} />
        </Text>
      )}
      {(broken ? [] : seen.sizes).map(({ gateway, bytes, mostBytes }) => (
        <Text key={gateway} size="sm" className={bytes > mostBytes ? 'care' : undefined} c={bytes > mostBytes ? undefined : 'dimmed'}>
          {count(bytes)} of {count(mostBytes)} bytes at {gateway}
        </Text>
      ))}
      {seen.sms && (
        <Text size="sm">
          {count(seen.sms.segments * seen.sms.messages)} segments
          {seen.sms.cost !== null && `, ${seen.sms.cost.toFixed(2)} ${seen.sms.currency ?? ''}`}
          {seen.sms.cost !== null && seen.sms.unpriced.length > 0 && ` and what ${seen.sms.unpriced.join(', ')} costs`}
        </Text>
      )}
    </div>
  );
}
