/** Asks a member to prove again who they are, before a sensitive change. */
import { Button, Modal, PasswordInput, Stack, Text, TextInput } from '@mantine/core';
import { type ConfirmationMethod, operations } from '@orchard/contract';
import { useMutation } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { api, onConfirmationNeeded } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { provePasskey } from '../parts/passkey.js';

type Proof = { password?: string; code?: string; passkey?: Record<string, never> };

export function ConfirmIdentity() {
  const [methods, setMethods] = useState<ConfirmationMethod[] | null>(null);
  const answer = useRef<(proved: boolean) => void>(() => undefined);
  useEffect(() => {
    onConfirmationNeeded((asked) => {
      setMethods(asked);
      return new Promise((resolve) => {
        answer.current = resolve;
      });
    });
  }, []);
  const finish = (proved: boolean) => {
    setMethods(null);
    answer.current(proved);
  };
  return (
    <Modal opened={methods !== null} onClose={() => finish(false)} title="Confirm that it is you" zIndex={400}>
      {methods && <ProofForm methods={methods} onProved={() => finish(true)} />}
    </Modal>
  );
}

function ProofForm({ methods, onProved }: { methods: ConfirmationMethod[]; onProved: () => void }) {
  const [secret, setSecret] = useState('');
  const byPassword = methods.includes('password');
  const prove = useMutation<unknown, Error, () => Promise<Proof>>({
    mutationFn: async (proof) => api.call(operations.secondFactors.confirm, { body: await proof() }),
    onSuccess: onProved,
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        prove.mutate(async () => (byPassword ? { password: secret } : { code: secret }));
      }}
    >
      <Stack gap="sm">
        <Text size="sm">This change is a sensitive one. You are not asked again for ten minutes.</Text>
        {methods.includes('passkey') && (
          <Button variant="default" loading={prove.isPending} onClick={() => prove.mutate(async () => ({ passkey: await provePasskey() }))}>
            Use a passkey
          </Button>
        )}
        {byPassword ? (
          <PasswordInput
            label="Password"
            autoComplete="current-password"
            data-autofocus
            value={secret}
            onChange={({ currentTarget }) => setSecret(currentTarget.value)}
          />
        ) : (
          <CodeInput value={secret} onChange={setSecret} />
        )}
        <Trouble error={prove.error} />
        <Button type="submit" loading={prove.isPending} disabled={secret === ''}>
          Confirm
        </Button>
      </Stack>
    </form>
  );
}

/** A code of an authenticator app, or a recovery code. */
type CodeProps = { value: string; onChange: (code: string) => void /** Whether a recovery code will do as well. */; recovery?: boolean };
export function CodeInput({ value, onChange, recovery = true }: CodeProps) {
  return (
    <TextInput
      label="Code"
      description={recovery ? 'Six digits from your authenticator app, or a recovery code' : 'Six digits from your authenticator app'}
      autoComplete="one-time-code"
      inputMode="text"
      data-autofocus
      classNames={{ input: 'mono' }}
      value={value}
      onChange={({ currentTarget }) => onChange(currentTarget.value)}
    />
  );
}
