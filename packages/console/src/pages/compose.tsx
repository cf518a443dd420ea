/** Writing a notification: for whom, what it says, how it looks, how it is sent; tested on one device, reviewed, sent. */
import { Button, Group, Modal, SegmentedControl, SimpleGrid, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { operations } from '@orchard/contract';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useChange } from '../api.js';
import { AudienceFields, Reach, usePreview } from '../compose/audience.js';
import { ContentFields, OptionFields } from '../compose/content.js';
import { audienceOf, contentOf, type Draft, newDraft, type Sending, sendingOf, type Way } from '../compose/draft.js';
import { count, PageHead, Trouble } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { PhonePreviews } from '../parts/phonePreview.js';
import { useAddressState, usePlace } from '../place.js';

/** The command that sends the same. */
function commandOf(place: string, body: Sending | null): string {
  if (!body) return `orchard notify send ${place} …`;
  const { audience, title, body: text, way, ...rest } = body;
  const to = audience.everyone
    ? '--everyone'
    : audience.user
      ? `--user ${audience.user}`
      : audience.device
        ? `--device ${audience.device}`
        : audience.filter
          ? `--filter "${audience.filter}"`
          : audience.topics
            ? `${audience.topics.any ? `--topic ${audience.topics.any.join(',')}` : ''} ${audience.topics.not ? `--not-topic ${audience.topics.not.join(',')}` : ''}`.trim()
            : `--to ${(audience.phones ?? audience.addresses ?? []).join(',')}`;
  if (way === 'sms') return `orchard sms send ${place} --text "${text}" ${to}`;
  const more = Object.keys(rest).length ? ` --content '${JSON.stringify(rest)}'` : '';
  return `orchard notify send ${place} --title "${title ?? ''}"${text ? ` --body "${text}"` : ''}${way === 'mail' ? ' --way mail' : ''} ${to}${more}`;
}

export function ComposePage() {
  const { params, base, details } = usePlace();
  const navigate = useNavigate();
  const [user] = useAddressState('user');
  const [device] = useAddressState('device');
  const [topic] = useAddressState('topic');
  const [draft, setDraft] = useState<Draft>(() => newDraft({ user, device, topic }));
  const [testOn, setTestOn] = useState(device);
  const [reviewing, review] = useDisclosure(false);
  const set = (changes: Partial<Draft>) => setDraft((before) => ({ ...before, ...changes }));
  const send = useChange(operations.notifications.sendManaged, ['notifications.']);
  const test = useChange(operations.notifications.sendManaged, ['notifications.']);
  const seen = usePreview(draft);
  const body = sendingOf(draft);
  const place = `--app ${params.app} --env ${params.environment}`;
  const submit = (whole: Sending) => send.mutate({ params, body: whole }, { onSuccess: ({ id }) => navigate(`${base}/sent/${id}`) });
  return (
    <>
      <PageHead title="Compose" hint="A notification to phones, an SMS or a mail">
        <FromCode same={{ command: commandOf(place, body), method: 'POST', path: '/app/v1/notifications', body: body ?? {} }} />
      </PageHead>
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xl">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            review.open();
          }}
        >
          <Stack gap="md">
            <SegmentedControl
              aria-label="By which way"
              value={draft.way}
              onChange={(value) =>
                set({ way: value as Way, audience: ['device', 'addresses'].includes(draft.audience) ? 'everyone' : draft.audience })
              }
              data={[
                { value: 'push', label: 'Push' },
                { value: 'sms', label: 'SMS' },
                { value: 'mail', label: 'Mail' },
              ]}
            />
            <AudienceFields draft={draft} set={set} />
            <ContentFields draft={draft} set={set} />
            <Title order={2}>How it is sent</Title>
            <OptionFields draft={draft} set={set} />
            <Group justify="flex-end">
              <Button variant="default" disabled={!body} onClick={() => body && submit({ ...body, draft: true })}>
                Keep as a draft
              </Button>
              <Button type="submit" disabled={!body || Boolean(seen.error)}>
                Review
              </Button>
            </Group>
          </Stack>
        </form>
        <Stack gap="lg">
          <section className="panel" aria-label="Whom it reaches">
            <Reach seen={seen.data} error={seen.error} missing={audienceOf(draft) === null} />
          </section>
          {draft.way === 'push' && (
            <PhonePreviews content={{ ...(contentOf(draft) ?? {}), title: draft.title, body: draft.body }} appName={params.app} />
          )}
          {draft.way === 'push' && (
            <section className="panel">
              <Title order={2} mb={6}>
                Test on one device
              </Title>
              <Group align="flex-end" gap="xs">
                <TextInput
                  label="Device id"
                  classNames={{ input: 'mono' }}
                  style={{ flex: 1 }}
                  value={testOn}
                  onChange={({ currentTarget }) => setTestOn(currentTarget.value)}
                />
                <Button
                  variant="default"
                  disabled={!contentOf(draft) || !draft.title || !testOn}
                  loading={test.isPending}
                  onClick={() => test.mutate({ params, body: { ...contentOf(draft), audience: { device: testOn } } })}
                >
                  Send a test
                </Button>
              </Group>
              {test.data && (
                <Text size="sm" role="status" mt={6}>
                  {test.data.deliveries.skipped ? `Not sent: ${test.data.reasons[0]?.reason}` : 'It is on its way to this one device.'}
                </Text>
              )}
              <Trouble error={test.error} />
            </section>
          )}
        </Stack>
      </SimpleGrid>
      <Modal
        opened={reviewing}
        onClose={review.close}
        title={`Send to ${count(seen.data?.reachable ?? 0)} of ${count(seen.data?.total ?? 0)}?`}
        size="lg"
      >
        <Stack>
          {params.environment === 'live' && <Text className="care">This is the live environment of {details?.app ?? params.app}.</Text>}
          <Text>
            <b>{draft.way === 'sms' ? draft.body : draft.title}</b>
            {draft.way !== 'sms' && draft.body && ` – ${draft.body}`}
          </Text>
          <Reach seen={seen.data} error={seen.error} missing={false} />
          <Text size="sm" c="dimmed">
            {draft.when === 'now'
              ? 'It goes out at once.'
              : `It goes out at ${draft.at.replace('T', ' ')}${draft.when === 'local' ? ' on each recipient’s clock' : ''}.`}
            {draft.quiet && ` Nobody gets it between ${draft.quietFrom} and ${draft.quietTo} of their day.`}
            {draft.fallBack &&
              ` Who has not received it after ${draft.fallBackMin} minutes gets ${draft.fallBack === 'sms' ? 'an SMS' : 'a mail'}.`}
          </Text>
          <Trouble error={send.error} />
          <Group justify="flex-end">
            <Button variant="default" onClick={review.close}>
              Go on writing
            </Button>
            <Button loading={send.isPending} disabled={!body} onClick={() => body && submit(body)}>
              {draft.when === 'now' ? 'Send now' : 'Schedule'}
            </Button>
          </Group>
        </Stack>
      </Modal>
    </>
  );
}
