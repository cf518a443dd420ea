/** Written by `orchard types` from the collections of quillfell-hiker/dev. */
type RecordOf<Fields> = { id: string; createdAt: string; updatedAt: string; version: number; ownerId: string | null } & Fields;
type Place = { type: 'Point'; coordinates: [number, number] };

export type Schema = {
  huts: RecordOf<{
    name: string;
    region: 'south' | 'middle' | 'north' | null;
    state: 'open' | 'full' | 'closed' | null;
    bunks: number | null;
    freeBunks: number | null;
    altitudeM: number | null;
    position: Place | null;
    warden: string | null;
    amenities: unknown[] | null;
    photo: string | null;
  }>;
  bookings: RecordOf<{
    hut: string;
    arrives: string | null;
    nights: number | null;
    party: number | null;
    state: 'held' | 'paid' | 'cancelled' | null;
    guest: string | null;
  }>;
  hazards: RecordOf<{
    kind: 'snow bridge' | 'fallen tree' | 'high water' | 'rockfall' | null;
    state: 'reported' | 'approved' | 'cleared' | null;
    position: Place | null;
    note: string | null;
    photo: string | null;
    phone: string | null;
    seenAt: string | null;
  }>;
  bulletins: RecordOf<{ title: string | null; body: string | null; level: number | null; issuedAt: string | null }>;
};
