/** Whether a provider can be used: step by step, for one person of a directory, or by signing in there as a made-up person. */
import { Button, Group, PasswordInput, TextInput } from '@mantine/core';
import { operations, type SignInWayDocument, type WaySteps } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Trouble } from '../parts/basics.js';

/** Kinds whose users visit the provider, so that a made-up person can. */
const VISITED: ReadonlySet<SignInWayDocument['kind']> = new Set(['openid', 'oauth', 'saml']);

export function WayCheck({ of: { name, kind, title } }: { of: SignInWayDocument }) {
  const { params, details } = useEnvironment();
  const [checked, setChecked] = useState<WaySteps | null>(null);
  const [somebody, setSomebody] = useState({ user: '', password: '' });
  const check = useChange(operations.signInWays.check, []);
  const tryOut = useChange(operations.signInWays.tryOut, []);
  if (details?.role === 'viewer') return null;
  const { user, password } = somebody;
  const body = { ...(user ? { user } : {}), ...(user && password ? { password } : {}) };
  return (
    <>
      <Group align="end" gap="xs" mt="xs">
        {kind === 'directory' && (
          <>
            <TextInput
              size="xs"
              label="User name to try"
              value={user}
              autoComplete="off"
              onChange={(event) => setSomebody({ ...somebody, user: event.currentTarget.value })}
            />
            <PasswordInput
              size="xs"
              label="Password"
              w={150}
              value={password}
              autoComplete="off"
              onChange={(event) => setSomebody({ ...somebody, password: event.currentTarget.value })}
            />
          </>
        )}
        <Button
          size="compact-sm"
          variant="default"
          aria-label={`Check ${title}`}
          loading={check.isPending}
          onClick={() => check.mutate({ params: { ...params, way: name }, body }, { onSuccess: setChecked })}
        >
          Check
        </Button>
        {VISITED.has(kind) && (
          <Button
            size="compact-sm"
            variant="default"
            aria-label={`Try it: ${title}`}
            loading={tryOut.isPending}
            onClick={() =>
              tryOut.mutate(
                { params: { ...params, way: name } },
                { onSuccess: ({ address }) => window.open(address, '_blank', 'noopener') },
              )
            }
          >
            Try it
          </Button>
        )}
      </Group>
      <Trouble error={check.error ?? tryOut.error} />
      {checked && (
        <ul style={{ margin: '0.5rem 0 0', paddingLeft: '1.1rem' }} aria-live="polite">
          {checked.steps.map(({ what, ok, text }) => (
            <li key={what} className={ok ? undefined : 'care'}>
              {what}: {text}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
