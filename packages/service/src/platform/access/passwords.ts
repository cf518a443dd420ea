/** Which passwords are accepted (NIST SP 800-63B section 5.1.1.2: no composition rules, but no common ones). */
import { Problem } from '@orchard/contract';
import { dictionary } from '@zxcvbn-ts/language-common';

let common: Set<string> | undefined;
/** For a signed-in user who confirms the password. */
export const WRONG_PASSWORD = 'The current password is wrong.';

export type PasswordPolicy = { leastPassword: number; commonPasswords: boolean };
/** Of members, and of users unless their team says otherwise. */
export const USUAL_POLICY: PasswordPolicy = { leastPassword: 8, commonPasswords: false };

/** The list of 49,000 entries is built when it is first needed. */
function isCommon(password: string): boolean {
  common ??= new Set((dictionary as { passwords: string[] }).passwords);
  return common.has(password);
}

const letters = (text: string) => text.toLowerCase().replaceAll(/[^\p{L}\p{N}]/gu, '');
/** The password without the digits and signs that people add at the ends. */
const bare = (text: string) => text.toLowerCase().replace(/^[^\p{L}]+|[^\p{L}]+$/gu, '');

/**
 * Refuses a password that is too short, is on lists of common ones, or repeats public facts of the account.
 * @param path its path in the request
 * @param about facts of the account: address, name, app
 * @throws {Problem} invalid-input, without the password
 */
export function demandGoodPassword(
  password: string,
  path: string,
  about: readonly (string | null | undefined)[],
  { leastPassword, commonPasswords }: PasswordPolicy = USUAL_POLICY,
): void {
  const refuse = (problem: string) => {
    throw new Problem('invalid-input', problem, {
      fields: [{ path, problem, expected: `${leastPassword} to 256 characters that are hard to guess: several words work well` }],
    });
  };
  if ([...password].length < leastPassword) refuse(`This password has fewer than ${leastPassword} characters.`);
  const plain = password.toLowerCase();
  const isListed = !commonPasswords && (isCommon(plain) || isCommon(bare(plain)));
  if (isListed || /^(.)\1*$/u.test(plain)) refuse('This password is easy to guess. Choose another.');
  const known = about.flatMap((text) => [text ?? '', ...(text ?? '').split('@')]).map(letters);
  if (known.some((word) => word.length > 3 && (letters(plain) === word || letters(bare(plain)) === word)))
    refuse('This password is the address or name of the account, or of the app. Choose another.');
}
