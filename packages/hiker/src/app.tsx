import { useSyncState, useUser } from '@orchard/react';
import { useEffect, useState } from 'react';
import { Account } from './account.js';
import { Bookings } from './bookings.js';
import { Hazards } from './hazards.js';
import { Huts } from './huts.js';
import { Weather } from './weather.js';

const SCREENS = { huts: 'Huts', bookings: 'Bookings', hazards: 'Hazards', account: 'You' } as const;
type Screen = keyof typeof SCREENS;
const isScreen = (name: string): name is Screen => Object.hasOwn(SCREENS, name);

const stepsOfAddress = () => location.hash.slice(1).split('/');

/** The screen that the address names, after `#`. */
function useScreen(): [Screen, string] {
  const [[name = '', rest = ''], set] = useState(stepsOfAddress);
  useEffect(() => {
    const heard = () => set(stepsOfAddress());
    addEventListener('hashchange', heard);
    return () => removeEventListener('hashchange', heard);
  }, []);
  return [isScreen(name) ? name : 'huts', rest];
}

export function App() {
  const [screen, rest] = useScreen();
  return (
    <>
      <header>
        <h1>Quillfell Hiker</h1>
        <SyncLine />
      </header>
      <Weather />
      <main>
        {screen === 'huts' && <Huts chosen={rest} />}
        {screen === 'bookings' && <Bookings />}
        {screen === 'hazards' && <Hazards />}
        {screen === 'account' && <Account />}
      </main>
      <nav aria-label="Screens">
        {Object.entries(SCREENS).map(([name, words]) => (
          <a key={name} href={`#${name}`} aria-current={name === screen ? 'page' : undefined}>
            {words}
          </a>
        ))}
      </nav>
    </>
  );
}

/** Whether what is shown is the truth, and what has not reached the service. */
function SyncLine() {
  const { connected, lastSyncedAt, pending, refused, conflicts, files, failing } = useSyncState();
  const user = useUser();
  const waiting = pending + files;
  const at = lastSyncedAt ? new Date(lastSyncedAt).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' }) : null;
  const said =
    failing?.why === 'unreachable'
      ? `No signal${at ? `, as of ${at}` : ''}`
      : failing && (user || failing.why !== 'refused')
        ? failing.detail
        : connected
          ? `Up to date, ${at}`
          : 'Connecting …';
  return (
    <p role="status" className={failing ? 'care' : undefined}>
      {said}
      {waiting > 0 && ` · ${waiting} waiting`}
      {refused + conflicts > 0 && (
        <>
          {' · '}
          <a href="#account">{refused + conflicts} to look at</a>
        </>
      )}
    </p>
  );
}
