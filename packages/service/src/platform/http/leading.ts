/** Leading a browser on, from one page to the next. */
import type { Call } from '../call.js';

/** Nothing keeps the address, which may hold a code, and the next page does not learn this one's (RFC 9700 section 4.2.4). */
export function leadTo({ response }: Pick<Call, 'response'>, address: string): 'streaming' {
  response.status(303).setHeader('location', address);
  response.setHeader('cache-control', 'no-store');
  response.setHeader('referrer-policy', 'no-referrer');
  response.end();
  return 'streaming';
}
