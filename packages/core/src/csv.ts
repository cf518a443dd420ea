/** Delimiters that spreadsheets write in different countries. */
const DELIMITERS = [',', ';', '\t', '|'] as const;

/** How many cells a header has, delimiters inside quotes not counted. */
export const countCells = (header: string, delimiter: string): number => withoutQuoted(header).split(delimiter).length;

/** The delimiter of a CSV file: the one that its header has most often, outside quotes. */
export function delimiterOf(header: string): string {
  return [...DELIMITERS].sort((one, other) => countCells(header, other) - countCells(header, one))[0] as string;
}

const withoutQuoted = (header: string): string => header.replace(/"(?:[^"]|"")*"/g, '');
