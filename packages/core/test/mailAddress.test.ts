/** Mail addresses: which are valid, and in which one form each is kept. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { readMailAddress } from '../src/accounts/mailAddress.js';

describe('a mail address', () => {
  it.each([
    ['Runa@Hikers.EXAMPLE', 'runa@hikers.example'],
    [' runa@hikers.example ', 'runa@hikers.example'],
    ['runa+col.2@hikers.example', 'runa+col.2@hikers.example'],
    ["o'ridge!#$%&*/=?^_`{|}~-@hikers.example", "o'ridge!#$%&*/=?^_`{|}~-@hikers.example"],
    ['"runa"@hikers.example', 'runa@hikers.example'],
    ['"runa of the col"@hikers.example', '"runa of the col"@hikers.example'],
    ['"runa@the\\"col"@hikers.example', '"runa@the\\"col"@hikers.example'],
    ['"\\r\\u\\n\\a"@hikers.example', 'runa@hikers.example'],
    ['RÚNA@hikers.example', 'rúna@hikers.example'],
    ['runa@HYTTE-Å.example', 'runa@xn--hytte--nua.example'],
    ['runa@xn--hytte--nua.example', 'runa@xn--hytte--nua.example'],
    ['山小屋@山.example', '山小屋@xn--rht.example'],
  ])('%s is kept as %s', (given, kept) => {
    expect(readMailAddress(given)).toBe(kept);
  });

  it('is the same however its accents are written', () => {
    expect(readMailAddress('ru\u0301na@hikers.example')).toBe(readMailAddress('r\u00fana@hikers.example'));
  });

  it.each([
    '',
    'runa',
    '@hikers.example',
    'runa@',
    'runa@hikers',
    'runa@.example',
    'runa@hikers..example',
    'runa@-hikers.example',
    'runa@127.0.0.1',
    'runa@hikers.example:25',
    'runa@hikers.example/col',
    'runa@hi kers.example',
    '.runa@hikers.example',
    'runa.@hikers.example',
    'ru..na@hikers.example',
    'runa of the col@hikers.example',
    'runa@col@hikers.example',
    '"runa"col@hikers.example',
    '""@hikers.example',
    '"ru\nna"@hikers.example',
    'runa,wren@hikers.example',
    'Runa <runa@hikers.example>',
    `${'r'.repeat(65)}@hikers.example`,
    `${'ø'.repeat(33)}@hikers.example`,
    `runa@${'hut.'.repeat(70)}example`,
  ])('%j is none', (given) => {
    expect(readMailAddress(given)).toBeNull();
  });

  it('is kept as it is once it was read', () => {
    fc.assert(
      fc.property(
        fc.oneof(
          fc.emailAddress(),
          fc.string({ unit: 'grapheme' }).map((name) => `${name}@hikers.example`),
        ),
        (given) => {
          const kept = readMailAddress(given);
          if (kept !== null) expect(readMailAddress(kept)).toBe(kept);
        },
      ),
      { numRuns: 1_000 },
    );
  });
});
