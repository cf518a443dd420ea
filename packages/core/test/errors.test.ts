/** Errors by likely cause, and log texts as they are kept. */
import { describe, expect, it } from 'vitest';
import { causeOf, isVersionFrom, placeOf, plainText } from '../src/index.js';

const V8 = `TypeError: Cannot read properties of undefined (reading 'nights')
    at Object.get (https://hiker.quillfell.example/assets/vendor-4f3a2b1c.js:1:2)
    at openBooking (https://hiker.quillfell.example/assets/booking-9f8e7d6c.js:41:13)
    at async main (https://hiker.quillfell.example/assets/main.js:3:1)`;
const GECKO =
  'openBooking@https://hiker.quillfell.example/assets/booking-11223344.js:44:13\nmain@https://hiker.quillfell.example/assets/main.js:3:1';
const error = (stack: string | undefined, message = 'Cannot read nights') => ({ name: 'TypeError', message, stack });

describe('the place of an error', () => {
  it.each([
    ['is the first in the team’s own code', V8, 'openBooking (/assets/booking.js:41)'],
    ['is read from other engines as well', GECKO, 'openBooking (/assets/booking.js:44)'],
    ['may have no function', 'Error\n    at https://a.example/main.js:7:1', '/main.js:7'],
    ['is unknown without a stack', '', ''],
  ])('%s', (_, stack, place) => expect(placeOf({ stack })).toBe(place));
});

describe('two errors have one cause', () => {
  it('when kind and place are the same, whatever the build and the line', () => {
    expect(causeOf(error(V8))).toBe(causeOf(error(GECKO, 'another message')));
    expect(causeOf(error(V8))).not.toBe(causeOf({ ...error(V8), name: 'RangeError' }));
  });

  it('without a stack when their messages differ in values only', () => {
    expect(causeOf(error(undefined, 'No hut "Greyback" in 14'))).toBe(causeOf(error(undefined, 'No hut "Fellgate" in 3')));
    expect(causeOf(error(undefined, 'No hut'))).not.toBe(causeOf(error(undefined, 'No trail')));
  });
});

it.each([
  ['2.4.1', '2.4.1', true],
  ['2.10.0', '2.9', true],
  ['2.4', '2.4.1', false],
  ['1.9', '2.0', false],
])('version %s counts from %s on: %s', (version, from, is) => expect(isVersionFrom(version, from)).toBe(is));

it('a text is kept without control characters and up to its length', () => {
  expect(plainText('red \u001b[31m\u0000 text\nnext', 100)).toBe('red ·[31m· text\nnext');
  expect(plainText('a'.repeat(50), 10)).toBe(`${'a'.repeat(9)}…`);
});
