/** Numbers in options, checked before any call to the service. */
import { InvalidArgumentError } from 'commander';

/** A parser of whole numbers from `least` to `most`. */
export const wholeNumber =
  (least: number, most = Number.MAX_SAFE_INTEGER) =>
  (text: string): number => {
    const number = Number(text);
    if (/^[+-]?\d+$/.test(text) && number >= least && number <= most) return number;
    throw new InvalidArgumentError(
      most < Number.MAX_SAFE_INTEGER ? `Must be a whole number from ${least} to ${most}.` : `Must be a whole number of at least ${least}.`,
    );
  };
