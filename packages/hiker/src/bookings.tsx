import { useOrchard, useRecord, useRecords, useUser } from '@orchard/react';
import type { Schema } from './schema.js';

type Booking = Schema['bookings'];

export function Bookings() {
  const user = useUser();
  const { items } = useRecords<Booking>('bookings', { sort: '-arrives', limit: 100 });
  if (!user)
    return (
      <p>
        <a href="#account">Sign in</a> to see your bookings.
      </p>
    );
  if (items.length === 0) return <p>You have not booked anything. Choose a hut to begin.</p>;
  return (
    <ul className="cards">
      {items.map((booking) => (
        <OneBooking key={booking.id} booking={booking} />
      ))}
    </ul>
  );
}

function OneBooking({ booking }: { booking: Booking }) {
  const bookings = useOrchard<Schema>().collection('bookings');
  const { record: hut } = useRecord<Schema['huts']>('huts', booking.hut);
  const isOn = booking.state !== 'cancelled';
  const isAhead = (booking.arrives ?? '') >= new Date().toISOString().slice(0, 10);
  return (
    <li>
      <strong>{hut?.name ?? booking.hut}</strong>
      <span>
        {booking.arrives}, {booking.nights} {booking.nights === 1 ? 'night' : 'nights'}, {booking.party}{' '}
        {booking.party === 1 ? 'person' : 'people'}
      </span>
      <b data-state={isOn ? 'open' : 'closed'}>
        {booking.state ?? 'held'}
        {booking.version === 0 && ', on this phone'}
      </b>
      {isOn && isAhead && (
        <button type="button" className="quiet" onClick={() => void bookings.change(booking.id, { state: 'cancelled' })}>
          Cancel
        </button>
      )}
    </li>
  );
}
