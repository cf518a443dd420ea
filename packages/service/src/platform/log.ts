/** The service's log: JSON lines on standard error, without secrets. */
import { maskSecrets } from '@orchard/core';
import pino, { type DestinationStream, type Logger } from 'pino';

const SECRET_NAMES = ['password', 'token', 'key', 'authorization', 'cookie', 'orchard-key'];

/**
 * What a log line says of an error: kind, message, code and stack of its cause. The ORM's message and the driver's
 * `sql` hold the values of the statement, password hashes among them, so neither is written.
 */
function describeFailure(error: unknown): Record<string, unknown> {
  let cause = error as Error & { code?: string; query?: string };
  while (cause?.query !== undefined && cause.cause instanceof Error) cause = cause.cause as typeof cause;
  if (!(cause instanceof Error)) return { message: String(error) };
  return { type: cause.name, message: cause.message, code: cause.code, stack: cause.stack };
}

/** @param destination where lines go, standard error unless given */
export function createLog(level: string, destination: DestinationStream = pino.destination({ dest: 2, sync: false })): Logger {
  // Every line is masked: a key pasted into the wrong place appears in some error message.
  const masking: DestinationStream = { write: (line) => destination.write(maskSecrets(line)) };
  const paths = SECRET_NAMES.flatMap((name) => [`["${name}"]`, `*["${name}"]`, `*.headers["${name}"]`]);
  return pino({ level, redact: paths, base: undefined, serializers: { err: describeFailure } }, masking);
}
