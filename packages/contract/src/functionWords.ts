import type { FunctionShown, HookOn } from './operations/functionDefinition.js';

type Standing = Pick<FunctionShown, 'kind' | 'path' | 'methods' | 'on' | 'clock' | 'zone'>;

/** Where a function stands: `GET /app/v1/endpoints/huts/{hut}/today`, `before create of bookings`, `0 6 * * 1-5 in Europe/Oslo`. */
export function functionWords({ kind, path, methods, on, clock, zone }: Standing): string {
  if (kind === 'endpoint') return `${methods?.join(' ')} /app/v1/endpoints/${path}`;
  return kind === 'hook' && on ? hookWords(on) : `${clock} in ${zone ?? 'UTC'}`;
}

const hookWords = ({ moment, actions, collection, subject }: HookOn): string =>
  `${moment === 'answer' ? 'on answers to' : moment} ${actions.join(', ')} of ${collection ?? subject}`;
