/** Which passwords are taken (NIST SP 800-63B section 5.1.1.2: no rules of composition, but none that everybody guesses first). */
import { Problem } from '@orchard/contract';
import { dictionary } from '@zxcvbn-ts/language-common';

let common: Set<string> | undefined;
/** The list is made when it is first needed: it has 49,000 entries. */
/** To somebody who is signed in, and gives the password once more. */
export const WRONG_PASSWORD = 'The current password is wrong.';

function isCommon(password: string): boolean {
  common ??= new Set((dictionary as { passwords: string[] }).passwords);
  return common.has(password);
}

const letters = (text: string) => text.toLowerCase().replaceAll(/[^\p{L}\p{N}]/gu, '');
/** What is left when the digits and signs people add at the ends are taken off. */
const bare = (text: string) => text.toLowerCase().replace(/^[^\p{L}]+|[^\p{L}]+$/gu, '');

/**
 * Refuses a password that stands on the lists of those who guess, or says what everybody knows of the account.
 * @param path where it stands in the request
 * @param about words of the account: its address, name, app
 * @throws {Problem} invalid-input, without the password
 */
export function demandGoodPassword(password: string, path: string, about: readonly (string | null | undefined)[]): void {
  const refuse = (problem: string) => {
    throw new Problem('invalid-input', problem, {
      fields: [{ path, problem, expected: '8 to 256 characters that nobody would guess first: several words do well' }],
    });
  };
  const plain = password.toLowerCase();
  if (isCommon(plain) || isCommon(bare(plain)) || /^(.)\1*$/u.test(plain))
    refuse('This password is among those that are guessed first. Choose another.');
  const known = about.flatMap((text) => [text ?? '', ...(text ?? '').split('@')]).map(letters);
  if (known.some((word) => word.length > 3 && (letters(plain) === word || letters(bare(plain)) === word)))
    refuse('This password is the address or name of the account, or of the app. Choose another.');
}
