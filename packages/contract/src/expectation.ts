/** What a value must be, as a phrase after “Must be”. */
import type { z } from 'zod';

/** @returns such as `a list`, `at least 8 characters` or `one of ios, android`; without a full stop */
export function expectedOf(issue: z.core.$ZodIssue): string {
  return phrase(wordsOf(issue));
}

function wordsOf(issue: z.core.$ZodIssue): string {
  switch (issue.code) {
    case 'invalid_type':
      return TYPES[issue.expected] ?? issue.expected;
    case 'invalid_value':
      return `one of ${issue.values.map(String).join(', ')}`;
    case 'too_small':
      return issue.message.startsWith('Too small') ? bound('at least', issue.minimum, issue.origin) : issue.message;
    case 'too_big':
      return issue.message.startsWith('Too big') ? bound('at most', issue.maximum, issue.origin) : issue.message;
    case 'invalid_format':
      return issue.message.startsWith('Invalid') ? (FORMATS[issue.format] ?? issue.format) : issue.message;
    case 'invalid_key':
      return issue.issues[0] ? wordsOf(issue.issues[0]) : issue.message;
    default:
      return issue.message;
  }
}

/** A schema's message is a sentence of its own in the document; here it continues another. */
const phrase = (text: string): string => text.replace(/\.$/, '').replace(/^[A-Z](?=[a-z]* )/, (first) => first.toLowerCase());

function bound(words: string, limit: number | bigint, origin: string): string {
  const unit = { string: 'character', array: 'item' }[origin];
  return `${words} ${limit}${unit ? ` ${unit}${Number(limit) === 1 ? '' : 's'}` : ''}`;
}

const TYPES: Record<string, string> = {
  string: 'text',
  int: 'an integer',
  number: 'a number',
  boolean: 'true or false',
  object: 'an object',
  array: 'a list',
  record: 'an object',
};
const FORMATS: Record<string, string> = {
  uuid: 'a UUID',
  url: 'a URL',
  email: 'an e-mail address',
  datetime: 'a time such as 2026-07-14T06:00:00.000Z',
  base64url: 'base64url without padding',
};
