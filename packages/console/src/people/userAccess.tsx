/** How a user gets in: sessions, second factors, accounts at providers, where roles come from, and looking at the app as the user. */
import { Button, Group, Modal, Text, Textarea } from '@mantine/core';
import { operations, type ReplyOf } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { Part } from './part.js';

export function UserAccess({ user }: { user: string }) {
  return (
    <>
      <UserSessions user={user} />
      <UserFactors user={user} />
      <ProviderAccounts user={user} />
      <RoleOrigins user={user} />
      <SignInAs user={user} />
    </>
  );
}

const useAt = (user: string) => ({ ...useEnvironment().params, user });
const useMayChange = () => ['maintainer', 'owner'].includes(useEnvironment().details?.role ?? '');

/** Where a user is signed in; each session can be ended. */
function UserSessions({ user }: { user: string }) {
  const { details } = useEnvironment();
  const at = useAt(user);
  const sessions = useCall(operations.accounts.sessions, { params: at });
  const end = useChange(operations.accounts.endSession, [operations.accounts.sessions]);
  return (
    <Part title="Signed in">
      <Trouble error={end.error} />
      <Loaded of={sessions}>
        {({ items }) =>
          items.length === 0 ? (
            <Text size="sm">Nowhere.</Text>
          ) : (
            <table className="plain">
              <tbody>
                {items.map(({ id, client, startedAt, renewedAt, support }) => (
                  <tr key={id}>
                    <td>
                      {client}
                      {support && <b className="care"> a member of the team, for support</b>}
                    </td>
                    <td>
                      since <Moment at={startedAt} />
                      {renewedAt && (
                        <>
                          , renewed <Moment at={renewedAt} />
                        </>
                      )}
                    </td>
                    <td className="right">
                      {details?.role !== 'viewer' && (
                        <Button size="compact-xs" variant="default" onClick={() => end.mutate({ params: { ...at, session: id } })}>
                          End
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }
      </Loaded>
    </Part>
  );
}

const FACTOR_WORDS = { authenticator: 'Authenticator app', passkey: 'Passkey' };

function UserFactors({ user }: { user: string }) {
  const at = useAt(user);
  const mayChange = useMayChange();
  const factors = useCall(operations.userFactors.ofUser, { params: at });
  const reset = useChange(operations.userFactors.reset, [operations.userFactors.ofUser, operations.accounts.sessions]);
  return (
    <Part title="Second factors and passkeys">
      <Loaded of={factors}>
        {({ items, recoveryCodes }) =>
          items.length === 0 ? (
            <Text size="sm">None. Users add them in the app, or by its calls.</Text>
          ) : (
            <>
              {items.map(({ id, kind, name, lastUsedAt }) => (
                <Text size="sm" key={id}>
                  {FACTOR_WORDS[kind]} {name}, {lastUsedAt ? 'last used ' : 'not used yet'}
                  {lastUsedAt && <Moment at={lastUsedAt} />}
                </Text>
              ))}
              <Text size="sm">{recoveryCodes} recovery codes are left.</Text>
              {mayChange && (
                <ConfirmedButton
                  label="Remove them all"
                  verb="Remove"
                  question="Remove all second factors of this user?"
                  consequence="For somebody who has lost them. Their sessions end, and the password alone signs in again."
                  change={reset}
                  onConfirm={() => reset.mutate({ params: at })}
                />
              )}
            </>
          )
        }
      </Loaded>
    </Part>
  );
}

function ProviderAccounts({ user }: { user: string }) {
  const accounts = useCall(operations.signInWays.ofUser, { params: useAt(user) });
  return (
    <Part title="Ways in">
      <Loaded of={accounts}>
        {({ items, password }) => (
          <>
            {password && <Text size="sm">A password</Text>}
            {items.map(({ id, title, account, addedAt }) => (
              <Text size="sm" key={id}>
                {title}, as {account}, since <Moment at={addedAt} />
              </Text>
            ))}
            {!password && items.length === 0 && (
              <Text size="sm">Neither a password nor an account at a provider: by a code or an address in a mail.</Text>
            )}
          </>
        )}
      </Loaded>
    </Part>
  );
}

function RoleOrigins({ user }: { user: string }) {
  const roles = useCall(operations.userRoles.ofUser, { params: useAt(user) });
  return (
    <Part title="Where roles come from">
      <Loaded of={roles}>
        {({ hand, ways, rule }) => (
          <>
            <Text size="sm">By hand: {hand.join(', ') || 'none'}</Text>
            {rule.length > 0 && <Text size="sm">By rule: {rule.join(', ')}</Text>}
            {Object.entries(ways).map(([way, given]) => (
              <Text size="sm" key={way}>
                By groups of {way}: {given.join(', ')}
              </Text>
            ))}
          </>
        )}
      </Loaded>
    </Part>
  );
}

type Begun = ReplyOf<typeof operations.accounts.beginSupport>;

/** A token with which a member sees what the user sees; it shows up everywhere, and ends by itself. */
function SignInAs({ user }: { user: string }) {
  const at = useAt(user);
  const [isOpen, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const [begun, setBegun] = useState<Begun | null>(null);
  const begin = useChange(operations.accounts.beginSupport, [operations.accounts.sessions]);
  if (!useMayChange()) return null;
  const close = () => {
    setOpen(false);
    setBegun(null);
    setReason('');
  };
  return (
    <Group>
      <Button variant="default" onClick={() => setOpen(true)}>
        Look at the app as this user
      </Button>
      <Modal opened={isOpen} onClose={close} title="Look at the app as this user">
        {begun ? (
          <>
            <Text size="sm" mb="xs">
              Send this token with a key of {begun.client} instead of the user’s. It ends <Moment at={begun.expiresAt} />. What you do is
              recorded in your name, and the account itself cannot be changed with it.
            </Text>
            <Code>{begun.accessToken}</Code>
          </>
        ) : (
          <form
            onSubmit={(event) => {
              event.preventDefault();
              begin.mutate({ params: at, body: { reason } }, { onSuccess: setBegun });
            }}
          >
            <Text size="sm" mb="xs">
              For half an hour you see what this user sees. The user’s list of sessions shows it, and the audit keeps the reason.
            </Text>
            <Textarea
              label="Reason"
              required
              minLength={3}
              maxLength={300}
              value={reason}
              onChange={(event) => setReason(event.currentTarget.value)}
            />
            <Trouble error={begin.error} />
            <Button type="submit" mt="md" loading={begin.isPending}>
              Begin
            </Button>
          </form>
        )}
      </Modal>
    </Group>
  );
}
