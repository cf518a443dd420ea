/** Digests: what is mailed to whom, with preview and a send to oneself. */
import { Anchor, Button, Checkbox, Group, Modal, NativeSelect, Stack, TagsInput, Text, TextInput, Title } from '@mantine/core';
import { type DigestDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, Trouble } from '../parts/basics.js';
import { counted } from '../parts/format.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.digests;
const WEEKDAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];

/** `Every Monday at 07:30`. */
const whenWords = ({ every, weekday, at }: DigestDocument): string =>
  every === 'week'
    ? `Every ${WEEKDAYS[weekday - 1]} at ${at}`
    : every === 'day'
      ? `Every day at ${at}`
      : `On the 1st of each month at ${at}`;

export function DigestList() {
  const digests = useCall(own.list, {});
  const [adding, setAdding] = useState(false);
  return (
    <Loaded of={digests}>
      {({ items, missing }) => (
        <Stack gap="lg">
          {missing && <Text className="care">{missing}</Text>}
          {items.length === 0 ? (
            <Empty title="No digest yet">
              <Text>
                A digest is a mail once a day, week or month: what needs care first, then calls, latency and incidents of each environment
                with the change against the period before, charts, and the tables as CSV. Each reader gets it by the clock of their time
                zone, and sees only what they may see.
              </Text>
            </Empty>
          ) : (
            items.map((digest) => <OneDigest key={digest.id} of={digest} />)
          )}
          <Group>
            <Button onClick={() => setAdding(true)}>Add digest</Button>
          </Group>
          <Modal opened={adding} onClose={() => setAdding(false)} title="Add a digest" size="lg">
            <AddDigest onDone={() => setAdding(false)} />
          </Modal>
        </Stack>
      )}
    </Loaded>
  );
}

function OneDigest({ of }: { of: DigestDocument }) {
  const input = { params: { digest: of.id } };
  const [shown, setShown] = useState(false);
  const send = useChange(own.send, []);
  const remove = useChange(own.remove);
  return (
    <section className="panel" aria-label={of.name}>
      <Title order={2}>{of.name}</Title>
      <Text size="sm">
        {whenWords(of)}:{' '}
        {of.environments.map(({ app, environment }) => `${app}/${environment}`).join(', ') || 'no environment that you may see'}
      </Text>
      <table className="plain">
        <tbody>
          {of.readers.map(({ id, member, address, timeZone, confirmed, nextAt, lastSentAt, lastFailure }) => (
            <tr key={id}>
              <td>{member?.name ?? address}</td>
              <td>{timeZone}</td>
              <td>
                {confirmed ? (
                  nextAt && (
                    <>
                      next <Moment at={nextAt} />
                    </>
                  )
                ) : (
                  <span className="care">not confirmed yet</span>
                )}
              </td>
              <td>
                {lastFailure ? (
                  <span className="care">{lastFailure}</span>
                ) : lastSentAt ? (
                  <>
                    sent <Moment at={lastSentAt} />
                  </>
                ) : (
                  'not sent yet'
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Trouble error={send.error ?? remove.error} />
      <Group gap="sm" mt="xs">
        <Button variant="default" onClick={() => setShown(true)}>
          Preview
        </Button>
        <Button variant="default" loading={send.isPending} onClick={() => send.mutate(input)}>
          Send to me now
        </Button>
        {of.mine && (
          <Button variant="subtle" color="persimmon" loading={remove.isPending} onClick={() => remove.mutate(input)}>
            End for all
          </Button>
        )}
        {send.data && <Text size="sm">Sent to {send.data.to}.</Text>}
      </Group>
      <Modal opened={shown} onClose={() => setShown(false)} title="As you would get it now" size="xl">
        {shown && <Preview digest={of.id} />}
      </Modal>
    </section>
  );
}

function Preview({ digest }: { digest: string }) {
  const preview = useCall(own.preview, { params: { digest } });
  return (
    <Loaded of={preview}>
      {({ subject, html, files }) => (
        <Stack gap="xs">
          <Text size="sm">
            Subject: <strong>{subject}</strong>
          </Text>
          {/* What is in it comes from data of apps, so it gets no script and no origin. */}
          <iframe title="The digest" sandbox="" srcDoc={html} style={{ width: '100%', height: '60vh', border: '1px solid var(--rule)' }} />
          <Text size="sm" c="dimmed">
            Attached: {counted(files.length, 'CSV file')}
          </Text>
        </Stack>
      )}
    </Loaded>
  );
}

function AddDigest({ onDone }: { onDone: () => void }) {
  const { params } = useEnvironment();
  const reports = useCall(operations.reports.list, { params });
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const apps = useCall(operations.apps.list, {});
  const places = (apps.data?.items ?? []).flatMap(({ name, environments }) => environments.map((one) => `${name}/${one.name}`));
  const form = useOperationForm(own.add, {
    initial: {
      name: 'Week',
      every: 'week',
      weekday: '1',
      at: '07:30',
      environments: [`${params.app}/${params.environment}`],
      reports: [] as string[],
      addresses: [] as string[],
    },
    input: ({ name, every, weekday, at, environments, reports: chosen, addresses }) => ({
      body: {
        name,
        every: every as 'week',
        weekday: Number(weekday),
        at,
        timeZone: here,
        environments: environments.map((place) => {
          const [app = '', environment = ''] = place.split('/');
          return { app, environment, ...(app === params.app && environment === params.environment ? { reports: chosen } : {}) };
        }),
        readers: addresses.map((address) => ({ address })),
      },
    }),
    onDone,
  });
  const { getInputProps } = form.form;
  return (
    <FormOf of={form} verb="Add digest">
      <TextInput label="Name" required {...getInputProps('name')} />
      <Group grow align="flex-start">
        <NativeSelect
          label="How often"
          data={[
            { value: 'day', label: 'Every day' },
            { value: 'week', label: 'Every week' },
            { value: 'month', label: 'Every month' },
          ]}
          {...getInputProps('every')}
        />
        {form.form.values.every === 'week' && (
          <NativeSelect label="On" data={WEEKDAYS.map((label, i) => ({ value: String(i + 1), label }))} {...getInputProps('weekday')} />
        )}
        <TextInput label="At" description="By the clock of each reader" {...getInputProps('at')} />
      </Group>
      <Checkbox.Group label="Environments" {...getInputProps('environments')}>
        <Group gap="sm" mt={4}>
          {places.map((place) => (
            <Checkbox key={place} value={place} label={place} />
          ))}
        </Group>
      </Checkbox.Group>
      {(reports.data?.items.length ?? 0) > 0 && (
        <Checkbox.Group label="Saved reports after the summary" {...getInputProps('reports')}>
          <Group gap="sm" mt={4}>
            {reports.data?.items.map(({ id, name }) => (
              <Checkbox key={id} value={id} label={name} />
            ))}
          </Group>
        </Checkbox.Group>
      )}
      <TagsInput
        label="Addresses of people who are no members"
        description="Each gets a mail and confirms first. What they see is bounded by your rights."
        placeholder="name@quillfell.example"
        {...getInputProps('addresses')}
      />
      <Text size="sm" c="dimmed">
        You get it yourself in any case. Times are by {here}. <Anchor href="/docs">More readers by the API</Anchor>
      </Text>
    </FormOf>
  );
}
