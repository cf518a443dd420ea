/** Prices of SMS segments as text: a country and its price on each line. */
import type { Messaging } from '@orchard/contract';

/** One price per line: `NO 0.061`. */
export const linesOf = (prices: Messaging['prices']): string =>
  Object.entries(prices)
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([country, price]) => `${country} ${price}`)
    .join('\n');

/** @returns the prices, or the first line that is not a price */
export function pricesOf(lines: string): Messaging['prices'] | string {
  const prices: Messaging['prices'] = {};
  for (const line of lines.split('\n').filter((text) => text.trim())) {
    const [, country, price] = /^\s*([A-Za-z]{2})\s+(\d+(?:\.\d+)?)\s*$/.exec(line) ?? [];
    if (!country || !price) return line;
    prices[country.toUpperCase()] = Number(price);
  }
  return prices;
}
