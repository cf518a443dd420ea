import { Problem } from '@orchard/contract';
import { type PhoneNumber, PhoneNumberError, readPhoneNumber } from '@orchard/core/messages';

/** Reads a number of a request. @throws {Problem} invalid-input that names the field */
export function demandPhone(text: string, path: string): PhoneNumber {
  try {
    return readPhoneNumber(text);
  } catch (error) {
    if (!(error instanceof PhoneNumberError)) throw error;
    throw new Problem('invalid-input', error.message, {
      fields: [{ path, problem: error.message, expected: '+<calling code><number>, such as +12025550142' }],
    });
  }
}
