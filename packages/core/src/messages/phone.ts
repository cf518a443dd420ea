/** Phone numbers: E.164, read with libphonenumber's rules. */
import { type CountryCode, parsePhoneNumberFromString, validatePhoneNumberLength } from 'libphonenumber-js';

export type PhoneNumber = { number: string; country: string | null };

/** Why a text is not a phone number, and what to write. */
export class PhoneNumberError extends Error {}

const LENGTHS: Record<string, string> = {
  INVALID_COUNTRY: 'does not begin with + and a country’s calling code',
  NOT_A_NUMBER: 'is not a phone number',
  TOO_SHORT: 'is too short for its country',
  TOO_LONG: 'is too long for its country',
  INVALID_LENGTH: 'has a length that its country does not use',
};

/**
 * Reads a number. Without + it is taken as one of `country` (ISO 3166-1), if given.
 * @returns E.164 and the country
 * @throws {PhoneNumberError}
 */
export function readPhoneNumber(text: string, country?: string): PhoneNumber {
  const given = text.trim();
  const number = parsePhoneNumberFromString(given, country as CountryCode | undefined);
  if (!number?.isPossible()) {
    const fault = validatePhoneNumberLength(given, country as CountryCode | undefined) ?? 'NOT_A_NUMBER';
    throw new PhoneNumberError(`\`${given.slice(0, 40)}\` ${LENGTHS[fault]}. Write it as +<calling code><number>, such as +12025550142.`);
  }
  // Where countries share a calling code and the number tells no more, the first of them is the main one.
  return { number: number.number, country: number.country ?? number.getPossibleCountries()[0] ?? null };
}
