/** Errors of apps gathered by likely cause: their kind, and the first place in the team's own code. */

export type AppError = { name: string; message: string; stack?: string | undefined };
type Frame = { fn: string; file: string; line: string };

/** `at fn (file:1:2)` and `at file:1:2` of V8, `fn@file:1:2` of the others. */
const V8 = /^\s*at (?:(?:async |new )?(.*?) \()?(.*?):(\d+)(?::\d+)?\)?\s*$/;
const OTHERS = /^(.*?)@(.*?):(\d+)(?::\d+)?$/;
/** Code that is not the team's: of the platform, and of packages. */
const FOREIGN = /node_modules|^node:|<anonymous>|^native$|\[native code\]|webpack\/|\/vendor[./-]/;

function readFrame(line: string): Frame | null {
  const [, fn, file, number] = V8.exec(line) ?? OTHERS.exec(line) ?? [];
  return file ? { fn: fn ?? '', file, line: number ?? '' } : null;
}

/** A file without its host, its query, and the digits that a build gives it. */
const stableFile = (file: string): string =>
  file
    .replace(/^[a-z]+:\/\/[^/]*/i, '')
    .replace(/[?#].*$/, '')
    .replace(/[.-][0-9a-f]{6,32}(?=\.\w+$)/i, '');

/** Where an error arose, such as `openBooking (/src/booking.ts:41)`; empty without a stack. */
export function placeOf({ stack = '' }: Pick<AppError, 'stack'>): string {
  const frames = stack.split('\n').flatMap((line) => readFrame(line) ?? []);
  const own = frames.find(({ file }) => !FOREIGN.test(file)) ?? frames[0];
  if (!own) return '';
  const where = `${stableFile(own.file)}:${own.line}`;
  return own.fn ? `${own.fn} (${where})` : where;
}

/** A message without what differs each time: numbers, ids and quoted values. */
const stableMessage = (message: string): string =>
  message
    .replace(/[0-9a-f]{8}-[0-9a-f-]{27}/gi, '#')
    .replace(/(["'`]).*?\1/g, '#')
    .replace(/\d+/g, '#');

/**
 * What two errors of the same cause have in common. Lines move from build to build, so the function and the file count; without
 * a stack, the message does.
 */
export function causeOf(error: AppError): string {
  const place = placeOf(error).replace(/:\d+\)?$/, '');
  return [error.name, place || stableMessage(error.message)].join(' ');
}

/** Whether a version is the same as another or later: `2.10.0` is later than `2.9`. */
export function isVersionFrom(version: string, from: string): boolean {
  const parts = (text: string) => text.split(/[.+-]/).map((part) => (/^\d+$/.test(part) ? Number(part) : part));
  const [a, b] = [parts(version), parts(from)];
  for (let i = 0; i < Math.max(a.length, b.length); i++) {
    const [one = 0, other = 0] = [a[i], b[i]];
    if (one === other) continue;
    return typeof one === 'number' && typeof other === 'number' ? one > other : String(one) > String(other);
  }
  return true;
}
