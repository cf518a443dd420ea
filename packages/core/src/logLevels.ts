/** From the least to the most grave. */
export const LOG_LEVELS = ['debug', 'info', 'warning', 'error'] as const;
export type LogLevel = (typeof LOG_LEVELS)[number];

export const isAtLeast = (level: LogLevel, least: LogLevel): boolean => LOG_LEVELS.indexOf(level) >= LOG_LEVELS.indexOf(least);

/** Text as it is kept: without control characters that could steer a terminal, and of a bounded length. */
export function plainText(text: string, most: number): string {
  const plain = text.replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u2028\u2029]/g, '·');
  return plain.length > most ? `${plain.slice(0, most - 1)}…` : plain;
}
