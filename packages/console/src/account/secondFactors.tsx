/** Your second factors: authenticator apps, passkeys, recovery codes. */
import { Alert, Button, Group, Modal, Stack, Text } from '@mantine/core';
import { type AddedFactor, operations, type SecondFactor } from '@orchard/contract';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { renderSVG } from 'uqr';
import { api, refreshCalls, useCall, useChange } from '../api.js';
import { Code, CopyText, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { counted } from '../parts/format.js';
import { createPasskey, passkeyObstacle } from '../parts/passkey.js';
import { CodeInput } from '../shell/confirmIdentity.js';

const own = operations.secondFactors;
type Begun = { id: string; secret: string; uri: string };

export function SecondFactors() {
  const factors = useCall(own.list, {});
  const [begun, setBegun] = useState<Begun | null>(null);
  const [codes, setCodes] = useState<string[] | null>(null);
  const begin = useChange(own.addAuthenticator, []);
  const renew = useChange(own.renewCodes);
  const passkey = useMutation({
    mutationFn: async () => api.call(own.addPasskey, { body: { name: deviceName(), passkey: await createPasskey() } }),
    onSuccess: (added) => taken(added),
  });
  const taken = (added: AddedFactor) => {
    setBegun(null);
    setCodes(added.recoveryCodes ?? null);
    void refreshCalls(own, operations.apps, operations.members);
  };
  return (
    <Loaded of={factors}>
      {({ items, recoveryCodes, demandedBy, passkeys }) => (
        <Stack gap="sm">
          {items.length === 0 && <None demandedBy={demandedBy} />}
          {items.map((factor) => (
            <Factor key={factor.id} factor={factor} isLast={items.length === 1} />
          ))}
          {items.length > 0 && (
            <Group justify="space-between">
              <Text size="sm" className={recoveryCodes < 3 ? 'care' : undefined}>
                {counted(recoveryCodes, 'recovery code')} left
              </Text>
              <Button
                size="compact-xs"
                variant="subtle"
                loading={renew.isPending}
                onClick={() => renew.mutate({}, { onSuccess: (made) => setCodes(made.recoveryCodes) })}
              >
                New recovery codes
              </Button>
            </Group>
          )}
          <Group>
            <Button
              variant="default"
              loading={begin.isPending}
              onClick={() => begin.mutate({ body: { name: 'Authenticator app' } }, { onSuccess: setBegun })}
            >
              Add authenticator app
            </Button>
            <Button
              variant="default"
              loading={passkey.isPending}
              disabled={(passkeys ?? passkeyObstacle()) !== null}
              onClick={() => passkey.mutate()}
            >
              Add passkey
            </Button>
          </Group>
          <Text size="sm" c="dimmed">
            {passkeys ?? passkeyObstacle() ?? 'A passkey of this device or a security key also signs you in without a password.'}
          </Text>
          <Trouble error={begin.error ?? passkey.error ?? renew.error} />
          <Modal opened={begun !== null} onClose={() => setBegun(null)} title="Add authenticator app" size="lg">
            {begun && <Authenticator begun={begun} onAdded={taken} />}
          </Modal>
          <Modal opened={codes !== null} onClose={() => setCodes(null)} title="Recovery codes" closeOnClickOutside={false}>
            {codes && <RecoveryCodes codes={codes} onDone={() => setCodes(null)} />}
          </Modal>
        </Stack>
      )}
    </Loaded>
  );
}

function None({ demandedBy }: { demandedBy: string[] }) {
  if (demandedBy.length === 0) return <Text size="sm">Your password alone signs you in. A second factor protects you if it leaks.</Text>;
  return (
    <Alert color="persimmon" variant="light" title="A second factor is demanded" styles={{ title: { color: 'var(--care)' } }}>
      {demandedBy.join(', ')} {demandedBy.length === 1 ? 'gives' : 'give'} you your rights as maintainer or owner only with one. Until then
      you have those of a developer.
    </Alert>
  );
}

/** Something to tell devices apart by. */
const deviceName = (): string => /\(([^;)]+)/.exec(navigator.userAgent)?.[1] ?? 'Passkey';

function Factor({ factor, isLast }: { factor: SecondFactor; isLast: boolean }) {
  const remove = useChange(own.remove, [own, operations.apps, operations.members]);
  return (
    <Group justify="space-between" wrap="nowrap">
      <div>
        <Text size="sm">
          {factor.name} <span className="hint">({factor.kind === 'passkey' ? 'passkey' : 'authenticator app'})</span>
        </Text>
        <Text size="sm" c="dimmed">
          Added <Moment at={factor.createdAt} />, last used <Moment at={factor.lastUsedAt} />
        </Text>
      </div>
      <ConfirmedButton
        size="compact-xs"
        label="Remove"
        verb="Remove"
        question={`Remove ${factor.name}?`}
        consequence={
          isLast
            ? 'It is your last second factor: your password alone signs you in then, and recovery codes stop working.'
            : 'It stops working at once. Your other second factors stay.'
        }
        change={remove}
        onConfirm={(done) => remove.mutate({ params: { factor: factor.id } }, { onSuccess: done })}
      />
    </Group>
  );
}

/** The secret to scan or type, and the first code that shows it works. */
function Authenticator({ begun, onAdded }: { begun: Begun; onAdded: (added: AddedFactor) => void }) {
  const [code, setCode] = useState('');
  const confirm = useChange(own.confirmAuthenticator, []);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        confirm.mutate({ params: { factor: begun.id }, body: { code } }, { onSuccess: onAdded });
      }}
    >
      <Stack gap="sm">
        <Text size="sm">Scan this with your authenticator app, or type the secret. Then enter the code it shows.</Text>
        <Group align="flex-start" wrap="nowrap">
          <img
            src={`data:image/svg+xml;utf8,${encodeURIComponent(renderSVG(begun.uri))}`}
            alt="QR code with the secret"
            width={180}
            height={180}
          />
          <Facts
            of={[
              ['Secret', <Secret key="s" text={begun.secret} />],
              ['Kind', 'time-based, SHA-1, 6 digits, 30 s'],
            ]}
          />
        </Group>
        <CodeInput value={code} onChange={setCode} recovery={false} />
        <Trouble error={confirm.error} />
        <Group justify="flex-end">
          <Button type="submit" loading={confirm.isPending} disabled={code === ''}>
            Add
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

function Secret({ text }: { text: string }) {
  return (
    <>
      <span className="mono">{text.replace(/(.{4})/g, '$1 ').trim()}</span> <CopyText text={text} label="Copy the secret" />
    </>
  );
}

function RecoveryCodes({ codes, onDone }: { codes: string[]; onDone: () => void }) {
  return (
    <Stack gap="sm">
      <Text size="sm">
        Each of these codes works once, in place of your second factor. They are shown this once: keep them where you find them without your
        device.
      </Text>
      <Code label="Copy the recovery codes">{codes.join('\n')}</Code>
      <Group justify="flex-end">
        <Button onClick={onDone}>I have kept them</Button>
      </Group>
    </Stack>
  );
}
