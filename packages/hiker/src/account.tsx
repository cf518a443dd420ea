import { ChangesWaiting } from '@orchard/client';
import { useOrchard, useSyncState, useUser, useValue } from '@orchard/react';
import { type FormEvent, useState } from 'react';
import type { Schema } from './schema.js';

export function Account() {
  const user = useUser();
  return user ? <SignedIn name={user.name ?? user.email ?? 'Guest'} /> : <SignIn />;
}

function SignIn() {
  const orchard = useOrchard<Schema>();
  const [trouble, setTrouble] = useState('');
  const signIn = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const { email, password } = Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>;
    try {
      await orchard.signIn(email as string, password as string);
    } catch (error) {
      setTrouble((error as Error).message);
    }
  };
  return (
    <form onSubmit={signIn}>
      <label>
        E-mail address <input type="email" name="email" autoComplete="username" required />
      </label>
      <label>
        Password <input type="password" name="password" autoComplete="current-password" required />
      </label>
      <button type="submit">Sign in</button>
      <p role="alert" className="care">
        {trouble}
      </p>
    </form>
  );
}

function SignedIn({ name }: { name: string }) {
  const orchard = useOrchard<Schema>();
  const [asks, setAsks] = useState(0);
  const signOut = (pending: 'ask' | 'discard') =>
    orchard.signOut({ pending }).catch((error) => {
      if (error instanceof ChangesWaiting) setAsks(error.count);
      else throw error;
    });
  return (
    <>
      <h2>{name}</h2>
      <Push />
      <ToLookAt />
      {asks > 0 && (
        <p role="alert" className="care">
          {asks} {asks === 1 ? 'change has' : 'changes have'} not reached the service, and would be lost.{' '}
          <button type="button" className="quiet" onClick={() => void signOut('discard')}>
            Sign out anyway
          </button>
        </p>
      )}
      <button type="button" onClick={() => void signOut('ask')}>
        Sign out
      </button>
    </>
  );
}

function Push() {
  const { device } = useOrchard<Schema>();
  const { subscribed, permission, why } = useValue(device.push.state);
  const [asked, setAsked] = useState(false);
  const turnOn = async () => {
    setAsked(true);
    await device.register();
    const { subscribed: isOn } = await device.push.enable('/worker.js');
    if (isOn) await device.follow('ridge-weather');
  };
  if (subscribed) return <p>You hear of storms on the ridge.</p>;
  return (
    <p>
      <button type="button" className="quiet" onClick={() => void turnOn()} disabled={permission === 'denied'}>
        Tell me of storms
      </button>{' '}
      {permission === 'denied' ? 'This browser is set to allow no notifications from here.' : asked && why}
    </p>
  );
}

/** What the service refused, and what somebody else changed too. */
function ToLookAt() {
  const { sync } = useOrchard<Schema>();
  useSyncState();
  const refused = sync.pending().filter(({ state }) => state === 'refused');
  const conflicts = sync.conflicts();
  if (refused.length + conflicts.length === 0) return null;
  return (
    <section>
      <h3>To look at</h3>
      <ul className="cards">
        {refused.map(({ id, collection, action, problem }) => (
          <li key={id}>
            <strong>
              {action} in {collection}
            </strong>
            <span>{problem?.detail}</span>
            <button type="button" className="quiet" onClick={() => void sync.discard(id)}>
              Let it go
            </button>
          </li>
        ))}
        {conflicts.map(({ id, collection, field, device, kept }) => (
          <li key={id}>
            <strong>
              {field} in {collection}
            </strong>
            <span>
              You wrote {JSON.stringify(device)}; it is {JSON.stringify(kept)}.
            </span>
            <button type="button" className="quiet" onClick={() => void sync.settle(id, { value: device })}>
              Use mine
            </button>
            <button type="button" className="quiet" onClick={() => void sync.settle(id)}>
              Keep it
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
