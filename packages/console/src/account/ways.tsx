/** How you can be reached: mail, SMS, this browser, each with quiet hours. */
import { Button, Checkbox, Group, Modal, Stack, Text, TextInput } from '@mantine/core';
import { type MemberMessage, type MemberWay, operations } from '@orchard/contract';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { OFTEN, refreshCalls, useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { addThisBrowser, ownTimeZone, pushObstacle } from '../parts/pushHere.js';
import { Verdict } from '../parts/verdict.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.memberWays;
const KIND_WORDS = { mail: 'mail', sms: 'SMS', browser: 'push to a browser' } as const;

export function Ways() {
  const ways = useCall(own.list, {});
  const [adding, setAdding] = useState<'mail' | 'sms' | null>(null);
  const [verifying, setVerifying] = useState<MemberWay | null>(null);
  const here = useMutation({ mutationFn: addThisBrowser, onSuccess: () => refreshCalls(own, operations.members) });
  return (
    <Loaded of={ways}>
      {({ items, missing }) => (
        <Stack gap="sm">
          {items.length === 0 && <Text size="sm">Nothing reaches you yet. Add a way, so that you hear of trouble at night too.</Text>}
          {items.map((way) => (
            <OneWay key={way.id} way={way} onVerify={() => setVerifying(way)} />
          ))}
          <Group>
            <Button variant="default" disabled={missing.mail !== null} onClick={() => setAdding('mail')}>
              Add mail address
            </Button>
            <Button variant="default" disabled={missing.sms !== null} onClick={() => setAdding('sms')}>
              Add phone number
            </Button>
            <Button variant="default" disabled={pushObstacle() !== null} loading={here.isPending} onClick={() => here.mutate()}>
              Add this browser
            </Button>
          </Group>
          {[missing.mail, missing.sms, pushObstacle()]
            .filter((why) => why !== null && why !== undefined)
            .map((why) => (
              <Text key={why} size="sm" c="dimmed">
                {why}
              </Text>
            ))}
          <Trouble error={here.error} />
          <Messages />
          <Modal
            opened={adding !== null}
            onClose={() => setAdding(null)}
            title={adding === 'mail' ? 'Add mail address' : 'Add phone number'}
          >
            {adding && (
              <AddAddress
                kind={adding}
                onSent={(way) => {
                  setAdding(null);
                  setVerifying(way);
                }}
              />
            )}
          </Modal>
          <Modal opened={verifying !== null} onClose={() => setVerifying(null)} title={`Verify ${verifying?.name}`}>
            {verifying && <Verify way={verifying} onDone={() => setVerifying(null)} />}
          </Modal>
        </Stack>
      )}
    </Loaded>
  );
}

function OneWay({ way, onVerify }: { way: MemberWay; onVerify: () => void }) {
  const remove = useChange(own.remove, [own, operations.members]);
  const test = useChange(own.test, [own]);
  const at = { params: { way: way.id } };
  const tested = test.data?.state;
  return (
    <div className="panel">
      <Group justify="space-between" wrap="nowrap" align="flex-start">
        <div>
          <Text size="sm">
            {way.name} <span className="hint">({KIND_WORDS[way.kind]})</span>
          </Text>
          <Text size="sm" c="dimmed" component="div">
            {way.verified ? (
              <Verdict well yes="verified" />
            ) : (
              <Verdict well={false} no="not verified" because="Enter the code that was sent there." />
            )}
            {way.lastSentAt && (
              <>
                , last message <Moment at={way.lastSentAt} />
              </>
            )}
          </Text>
          {way.lastFailure && (
            <Text size="sm" className="care">
              {way.lastFailure}
            </Text>
          )}
        </div>
        <Group gap={4} wrap="nowrap">
          {way.verified ? (
            <Button size="compact-xs" variant="subtle" loading={test.isPending} onClick={() => test.mutate(at)}>
              Send test
            </Button>
          ) : (
            <Button size="compact-xs" variant="subtle" onClick={onVerify}>
              Enter code
            </Button>
          )}
          <ConfirmedButton
            size="compact-xs"
            label="Remove"
            verb="Remove"
            question={`Remove ${way.name}?`}
            consequence="Nothing is sent there any more."
            change={remove}
            onConfirm={(done) => remove.mutate(at, { onSuccess: done })}
          />
        </Group>
      </Group>
      {tested && (
        <Text size="sm" className={tested === 'failed' ? 'care' : undefined}>
          {tested === 'sent' ? 'The test is on its way.' : test.data?.reason}
        </Text>
      )}
      <Trouble error={test.error} />
      {way.verified && <Quiet way={way} />}
    </div>
  );
}

/** Quiet hours of a way; changed as a whole. */
function Quiet({ way }: { way: MemberWay }) {
  const patch = useChange(own.patch);
  const [from, setFrom] = useState(way.quiet?.from ?? '22:00');
  const [to, setTo] = useState(way.quiet?.to ?? '07:00');
  const save = (body: Parameters<typeof patch.mutate>[0]['body']) => patch.mutate({ params: { way: way.id }, body });
  const isOn = way.quiet !== null;
  return (
    <Stack gap={4} mt={6}>
      <Group gap="xs" align="center">
        <Checkbox
          size="xs"
          label="Quiet hours"
          checked={isOn}
          onChange={({ currentTarget }) => save({ quiet: currentTarget.checked ? { from, to } : null, timeZone: ownTimeZone() })}
        />
        {isOn && (
          <>
            <TextInput
              size="xs"
              type="time"
              aria-label="Quiet from"
              value={from}
              onChange={({ currentTarget }) => setFrom(currentTarget.value)}
            />
            <Text size="sm">to</Text>
            <TextInput
              size="xs"
              type="time"
              aria-label="Quiet to"
              value={to}
              onChange={({ currentTarget }) => setTo(currentTarget.value)}
            />
            <Text size="sm" c="dimmed">
              {way.timeZone}
            </Text>
            {(from !== way.quiet?.from || to !== way.quiet?.to) && (
              <Button size="compact-xs" loading={patch.isPending} onClick={() => save({ quiet: { from, to }, timeZone: ownTimeZone() })}>
                Save
              </Button>
            )}
          </>
        )}
      </Group>
      {isOn && (
        <Checkbox
          size="xs"
          label="Urgent messages come then too"
          checked={way.urgentAnyway}
          onChange={({ currentTarget }) => save({ urgentAnyway: currentTarget.checked })}
        />
      )}
      <Trouble error={patch.error} />
    </Stack>
  );
}

function AddAddress({ kind, onSent }: { kind: 'mail' | 'sms'; onSent: (way: MemberWay) => void }) {
  const session = useCall(operations.members.readSession, {});
  const add = useOperationForm(own.add, {
    initial: { address: kind === 'mail' ? (session.data?.member.email ?? '') : '', number: '' },
    input: ({ address, number }) => ({
      body: kind === 'mail' ? { kind, address, timeZone: ownTimeZone() } : { kind, number, timeZone: ownTimeZone() },
    }),
    onDone: onSent,
    stale: [own],
  });
  const { getInputProps } = add.form;
  return (
    <FormOf of={add} verb="Send code">
      {kind === 'mail' ? (
        <TextInput label="E-mail address" type="email" required data-autofocus {...getInputProps('address')} />
      ) : (
        <TextInput
          label="Phone number"
          description="With its country, such as +12025550147"
          type="tel"
          required
          data-autofocus
          {...getInputProps('number')}
        />
      )}
    </FormOf>
  );
}

function Verify({ way, onDone }: { way: MemberWay; onDone: () => void }) {
  const verify = useOperationForm(own.verify, {
    initial: { code: '' },
    input: (body) => ({ params: { way: way.id }, body }),
    onDone,
    stale: [own, operations.members],
  });
  return (
    <FormOf of={verify} verb="Verify">
      <TextInput
        label="Code"
        description={`Six digits that were sent to ${way.name}; valid for ten minutes`}
        autoComplete="one-time-code"
        inputMode="numeric"
        required
        data-autofocus
        {...verify.form.getInputProps('code')}
      />
    </FormOf>
  );
}

/** The latest messages to you, and what became of each. */
function Messages() {
  const messages = useCall(own.messages, {}, OFTEN);
  const items = messages.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <div className="listing">
      <table aria-label="Messages to you">
        <TableHead columns={['Message', 'Way', 'State', 'Created']} />
        <tbody>
          {items.slice(0, 8).map((message) => (
            <tr key={message.id}>
              <td>{message.title}</td>
              <td>{KIND_WORDS[message.way]}</td>
              <td>
                <State of={message} />
              </td>
              <td>
                <Moment at={message.createdAt} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function State({ of: { state, reason } }: { of: MemberMessage }) {
  return <Verdict well={state === 'sent'} yes="sent" no={state} because={reason} />;
}
