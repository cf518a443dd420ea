// Calls of up to a megabyte that are meant to take long: each alone, to see how long the event loop stands still.

const MEGABYTE = 990_000;

/** @param ground what prepare of calls.mjs answered */
export function largeCalls({ address, clientKey, all }) {
  const send = async (method, path, body, key = all) => {
    const reply = await fetch(address + path, {
      method,
      headers: { ...(key ? { 'orchard-key': key } : {}), 'content-type': 'application/json' },
      ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
    });
    await reply.text();
    return reply.status;
  };
  const fields = (count, name = (i) => `field${i}`) => Object.fromEntries(Array.from({ length: count }, (_, i) => [name(i), i]));
  const one = (name, make) => ({ name, make });
  return [
    one('16,000 unknown fields', () => send('POST', '/app/v1/data/huts', fields(16_000))),
    one('60,000 unknown fields', () => send('POST', '/app/v1/data/huts', fields(60_000))),
    one('16,000 unknown fields, no key', () => send('POST', '/app/v1/data/huts', fields(16_000), null)),
    one('16,000 unknown fields, client key', () => send('POST', '/app/v1/data/huts', fields(16_000), clientKey)),
    one('200 unknown fields with long names', () =>
      send(
        'POST',
        '/app/v1/data/huts',
        fields(200, (i) => `f${i}${'x'.repeat(4_000)}`),
      ),
    ),
    one('16,000 unknown members of a sign-in', () => send('POST', '/app/v1/sessions', fields(16_000), clientKey)),
    one('one text of 990 kB', () => send('POST', '/app/v1/data/huts', { name: 'x'.repeat(MEGABYTE) })),
    one('a list of 200,000 numbers', () =>
      send('POST', '/app/v1/data/huts', { amenities: Array.from({ length: 200_000 }, (_, i) => i % 10) }),
    ),
    one('nested 100,000 deep', () => send('POST', '/app/v1/data/huts', `{"a":${'['.repeat(100_000)}${']'.repeat(100_000)}}`)),
    one('a batch of 1,000 with bad fields', () =>
      send('POST', '/app/v1/data/huts/batch', {
        together: false,
        actions: Array.from({ length: 1_000 }, (_, i) => ({ action: 'create', record: { [`Field${i}`]: 1, nmae: 'x', bunsk: 2 } })),
      }),
    ),
    one('a batch of 1,000 unknown actions', () =>
      send('POST', '/app/v1/data/huts/batch', { actions: Array.from({ length: 1_000 }, () => ({ action: 'x', record: {} })) }),
    ),
    one('a filter of 16,000 characters', () =>
      send(
        'GET',
        `/app/v1/data/huts?filter=${encodeURIComponent(`name = '${'x'.repeat(3_000)}' OR ${'('.repeat(30)}name = 'a'${')'.repeat(30)}`)}`,
      ),
    ),
    one('a filter with a field name of 3,000 characters', () => send('GET', `/app/v1/data/huts?filter=${'a'.repeat(3_000)}%20=%201`)),
    one('a notification with 990 kB of data', () =>
      send('POST', '/app/v1/notifications', { title: 'x', audience: { everyone: true }, data: { text: 'x'.repeat(MEGABYTE) } }),
    ),
    one('a notification to 20,000 unknown users', () =>
      send('POST', '/app/v1/notifications', { title: 'x', audience: { users: Array.from({ length: 20_000 }, (_, i) => `u${i}`) } }),
    ),
    one('a body of 990 kB that is not JSON', () =>
      send('POST', '/app/v1/data/huts', `${'{"a":'.repeat(1_000)}${'x'.repeat(MEGABYTE - 10_000)}`),
    ),
  ];
}
