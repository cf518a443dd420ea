import { useOrchard, useRecord, useRecords, useUser } from '@orchard/react';
import { type FormEvent, useEffect, useState } from 'react';
import type { Schema } from './schema.js';
import { TrailMap } from './trailMap.js';

type Hut = Schema['huts'];
const REGIONS = ['all', 'south', 'middle', 'north'] as const;

export function Huts({ chosen }: { chosen: string }) {
  const [region, setRegion] = useState<(typeof REGIONS)[number]>('all');
  const { items, ready } = useRecords<Hut>('huts', {
    sort: 'name',
    limit: 100,
    ...(region === 'all' ? {} : { filter: `region = '${region}'` }),
  });
  if (chosen) return <OneHut id={chosen} />;
  return (
    <>
      <TrailMap huts={items} />
      <fieldset className="choice">
        <legend>Region</legend>
        {REGIONS.map((name) => (
          <label key={name}>
            <input type="radio" name="region" checked={region === name} onChange={() => setRegion(name)} /> {name}
          </label>
        ))}
      </fieldset>
      {!ready && items.length === 0 && <p>The huts are on their way …</p>}
      <ul className="cards">
        {items.map((hut) => (
          <li key={hut.id}>
            <a href={`#huts/${hut.id}`}>{hut.name}</a>
            <span>
              {hut.altitudeM} m, {hut.region}
            </span>
            <b data-state={hut.state}>{bunksOf(hut)}</b>
          </li>
        ))}
      </ul>
    </>
  );
}

const bunksOf = ({ state, bunks, freeBunks }: Hut): string =>
  state === 'open' ? `${freeBunks ?? 0} of ${bunks} bunks free` : (state ?? '');

function OneHut({ id }: { id: string }) {
  const { record: hut, ready } = useRecord<Hut>('huts', id);
  const orchard = useOrchard<Schema>();
  useEffect(() => void orchard.events.track('hut_opened', { hut: id }), [orchard, id]);
  if (!hut) return <p>{ready ? 'There is no such hut on this phone.' : 'One moment …'}</p>;
  return (
    <article>
      <a href="#huts">All huts</a>
      <h2>{hut.name}</h2>
      <p>
        {hut.altitudeM} m, {hut.region}. <b data-state={hut.state}>{bunksOf(hut)}</b>
      </p>
      <p>{(hut.amenities ?? []).join(', ')}</p>
      <Book hut={hut} />
    </article>
  );
}

/** A booking is made on the phone, and reaches the service when it can. */
function Book({ hut }: { hut: Hut }) {
  const orchard = useOrchard<Schema>();
  const user = useUser();
  const [made, setMade] = useState(false);
  if (!user)
    return (
      <p>
        <a href="#account">Sign in</a> to book bunks here.
      </p>
    );
  if (hut.state !== 'open') return <p>This hut is {hut.state}: nothing can be booked now.</p>;
  const book = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const { arrives, nights, party } = Object.fromEntries(new FormData(event.currentTarget));
    await orchard
      .collection('bookings')
      .create({ hut: hut.id, arrives, nights: Number(nights), party: Number(party), guest: user.id } as never);
    void orchard.events.track('booking_sent', { nights: Number(nights), party: Number(party) });
    setMade(true);
  };
  if (made)
    return (
      <p role="status">
        Booked. <a href="#bookings">See your bookings</a>
      </p>
    );
  return (
    <form onSubmit={book}>
      <label>
        Arrives <input type="date" name="arrives" required defaultValue={new Date(Date.now() + 86_400_000).toISOString().slice(0, 10)} />
      </label>
      <label>
        Nights <input type="number" name="nights" min={1} max={14} defaultValue={1} required />
      </label>
      <label>
        People <input type="number" name="party" min={1} max={20} defaultValue={2} required />
      </label>
      <button type="submit">Book bunks</button>
    </form>
  );
}
