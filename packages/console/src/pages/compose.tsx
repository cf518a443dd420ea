/** Composing a notification: audience, content, preview and options; then a test on one device, a review, and sending. */
import { Anchor, Button, Group, Modal, SegmentedControl, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { operations, shellWord } from '@orchard/contract';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { AudienceFields, Reach, usePreview } from '../compose/audience.js';
import { ContentFields } from '../compose/content.js';
import { audienceOf, contentOf, type Draft, draftOf, lostParts, newDraft, type Sending, sendingOf, type Way } from '../compose/draft.js';
import { OptionFields } from '../compose/options.js';
import { TestOnDevice } from '../compose/testOnDevice.js';
import { Empty, Loaded, PageHead, Trouble } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { PhonePreviews } from '../parts/phonePreview.js';
import { useAddressState, useEnvironment } from '../environment.js';

/** The command that sends the same. */
function sendCommand(place: string, body: Sending | null, kept: string | null): string {
  const send = `orchard notify send ${place}${kept ? ` --kept ${kept}` : ''}`;
  if (!body) return `${send} …`;
  const { audience, title, body: text, way, ...rest } = body;
  const { topics } = audience;
  const listed = audience.phones ?? audience.addresses;
  const users = audience.user ? [audience.user] : audience.users;
  const devices = audience.device ? [audience.device] : audience.devices;
  const words = [
    send,
    way !== 'push' && `--way ${way}`,
    title && `--title ${shellWord(title)}`,
    text && `--body ${shellWord(text)}`,
    audience.everyone && '--everyone',
    users && `--user ${users.join(',')}`,
    devices && `--device ${devices.join(',')}`,
    audience.filter && `--filter ${shellWord(audience.filter)}`,
    topics?.any && `--topic ${topics.any.join(',')}`,
    topics?.all && `--all-topics ${topics.all.join(',')}`,
    topics?.not && `--not-topic ${topics.not.join(',')}`,
    listed && `--to ${listed.join(',')}`,
    Object.keys(rest).length > 0 && `--content ${shellWord(JSON.stringify(rest))}`,
  ];
  return words.filter(Boolean).join(' \\\n  ');
}

function codedSending(place: string, body: Sending | null, kept: string | null) {
  const command = sendCommand(place, body, kept);
  const whole = body ?? ({} as Sending);
  return kept
    ? coded(operations.notifications.rewrite, { params: { id: kept }, body: whole }, command)
    : coded(operations.notifications.send, { body: whole }, command);
}

/** A new notification, or a stored draft. */
export function ComposePage() {
  const [user] = useAddressState('user');
  const [device] = useAddressState('device');
  const [topic] = useAddressState('topic');
  const [filter] = useAddressState('filter');
  const [kept] = useAddressState('kept');
  return kept ? <KeptComposer key={kept} id={kept} /> : <Composer first={newDraft({ user, device, topic, filter })} kept={null} />;
}

function KeptComposer({ id }: { id: string }) {
  const { params, base } = useEnvironment();
  const answer = useCall(operations.notifications.readManaged, { params: { ...params, id } });
  return (
    <Loaded of={answer}>
      {(kept) => {
        const lost = lostParts(kept);
        if (kept.state !== 'draft' && kept.state !== 'scheduled')
          return <Empty title={`It is ${kept.state}`}>Only drafts and scheduled notifications can be edited.</Empty>;
        if (lost.length > 0)
          return (
            <Empty title="This page cannot show all of it">
              <Text>
                It has parts that this page has no fields for: <span className="mono">{lost.join(', ')}</span>. Replace it with{' '}
                <span className="mono">PUT /app/v1/notifications/{id}</span>, or{' '}
                <Anchor component={Link} to={`${base}/sent/${id}`}>
                  send it as it is
                </Anchor>
                .
              </Text>
            </Empty>
          );
        return <Composer first={draftOf(kept)} kept={id} />;
      }}
    </Loaded>
  );
}

function Composer({ first, kept }: { first: Draft; kept: string | null }) {
  const { params, base, details } = useEnvironment();
  const navigate = useNavigate();
  const [draft, setDraft] = useState<Draft>(first);
  const [reviewing, review] = useDisclosure(false);
  const set = (changes: Partial<Draft>) => setDraft((before) => ({ ...before, ...changes }));
  const send = useChange(operations.notifications.sendManaged);
  const rewrite = useChange(operations.notifications.rewriteManaged);
  const seen = usePreview(draft);
  const body = sendingOf(draft);
  const place = `--app ${params.app} --env ${params.environment}`;
  const onSuccess = ({ id }: { id: string }) => navigate(`${base}/sent/${id}`);
  const submit = (whole: Sending) =>
    kept
      ? rewrite.mutate({ params: { ...params, id: kept }, body: whole }, { onSuccess })
      : send.mutate({ params, body: whole }, { onSuccess });
  const submitting = send.isPending || rewrite.isPending;
  return (
    <>
      <PageHead
        title={kept ? 'Edit' : 'Compose'}
        hint={kept ? 'A saved notification. Sending replaces the saved one' : 'A notification to phones, an SMS or a mail'}
      >
        <FromCode calls={[codedSending(place, body, kept)]} />
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
              aria-label="Way"
              value={draft.way}
              onChange={(value) =>
                set({ way: value as Way, audience: ['devices', 'addresses'].includes(draft.audience) ? 'everyone' : draft.audience })
              }
              data={[
                { value: 'push', label: 'Push' },
                { value: 'sms', label: 'SMS' },
                { value: 'mail', label: 'Mail' },
              ]}
            />
            <AudienceFields draft={draft} set={set} />
            <ContentFields draft={draft} set={set} />
            <Title order={2}>Sending options</Title>
            <OptionFields draft={draft} set={set} />
            <Group justify="flex-end">
              <Button
                variant="default"
                disabled={!body}
                loading={submitting && !reviewing}
                onClick={() => body && submit({ ...body, draft: true })}
              >
                Save as draft
              </Button>
              <Button type="submit" disabled={!body || Boolean(seen.error)}>
                Review
              </Button>
            </Group>
            {!reviewing && <Trouble error={send.error ?? rewrite.error} />}
          </Stack>
        </form>
        <Stack gap="lg">
          <section className="panel" aria-label="Recipients">
            <Reach seen={seen.data} error={seen.error} missing={audienceOf(draft) === null} broken={contentOf(draft) === null} />
          </section>
          {draft.way === 'push' && (
            <PhonePreviews content={contentOf(draft) ?? { title: draft.title, body: draft.body }} appName={params.app} />
          )}
          {draft.way === 'push' && <TestOnDevice draft={draft} first={first.devices.split('\n')[0] ?? ''} />}
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
              ? 'It is sent at once.'
              : `It is sent at ${draft.at.replace('T', ' ')}${draft.when === 'local' ? ' in each recipient’s time zone' : ''}.`}
            {draft.quiet && ` Nobody receives it between ${draft.quietFrom} and ${draft.quietTo} of their day.`}
            {draft.fallBack &&
              ` Recipients who have not received it after ${draft.fallBackMin} minutes get ${draft.fallBack === 'sms' ? 'an SMS' : 'a mail'}.`}
          </Text>
          <Trouble error={send.error ?? rewrite.error} />
          <Group justify="flex-end">
            <Button variant="default" onClick={review.close}>
              Back to editing
            </Button>
            <Button loading={submitting} disabled={!body} onClick={() => body && submit(body)}>
              {draft.when === 'now' ? 'Send now' : 'Schedule'}
            </Button>
          </Group>
        </Stack>
      </Modal>
    </>
  );
}
