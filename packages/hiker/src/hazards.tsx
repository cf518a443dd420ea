import { useOrchard, useRecords, useUser } from '@orchard/react';
import { type FormEvent, useState } from 'react';
import type { Schema } from './schema.js';

type Hazard = Schema['hazards'];
const KINDS = ['snow bridge', 'fallen tree', 'high water', 'rockfall'];

export function Hazards() {
  const { items } = useRecords<Hazard>('hazards', { filter: "state <> 'cleared'", sort: '-seenAt', limit: 50 });
  return (
    <>
      <Report />
      <ul className="cards">
        {items.map((hazard) => (
          <li key={hazard.id}>
            <strong>{hazard.kind}</strong>
            <span>{hazard.note}</span>
            <b data-state={hazard.state === 'approved' ? 'closed' : 'full'}>
              {hazard.state}
              {hazard.version === 0 && ', on this phone'}
            </b>
          </li>
        ))}
      </ul>
    </>
  );
}

/** Where the phone is; null where nobody says. */
const positionNow = () =>
  new Promise<Hazard['position']>((resolve) => {
    navigator.geolocation?.getCurrentPosition(
      ({ coords }) => resolve({ type: 'Point', coordinates: [coords.longitude, coords.latitude] }),
      () => resolve(null),
      { timeout: 5_000 },
    ) ?? resolve(null);
  });

function Report() {
  const orchard = useOrchard<Schema>();
  const user = useUser();
  const [said, setSaid] = useState('');
  if (!user)
    return (
      <p>
        <a href="#account">Sign in</a> to report a hazard.
      </p>
    );
  const report = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const given = new FormData(form);
    const photo = given.get('photo') as File;
    const position = given.get('here') ? await positionNow() : null;
    const { id } = await orchard.collection('hazards').create({ kind: given.get('kind'), note: given.get('note'), position } as never);
    // The report goes first: a warning is worth more than its picture.
    if (photo.size > 0)
      await orchard.sync.queueFile({
        path: `hazards/${id}-${photo.name}`,
        content: photo,
        collection: 'hazards',
        record: id,
        field: 'photo',
        first: false,
      });
    form.reset();
    setSaid(orchard.sync.state.current.connected ? 'Reported. Thank you.' : 'Kept on this phone. It goes out when there is a signal.');
  };
  return (
    <form onSubmit={report}>
      <label>
        What is it
        <select name="kind">
          {KINDS.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </select>
      </label>
      <label>
        What should others know <textarea name="note" maxLength={500} required />
      </label>
      <label>
        Photo <input type="file" name="photo" accept="image/*" capture="environment" />
      </label>
      <label className="line">
        <input type="checkbox" name="here" defaultChecked /> Add where I am
      </label>
      <button type="submit">Report hazard</button>
      <p role="status">{said}</p>
    </form>
  );
}
