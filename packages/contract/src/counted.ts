/** A number of things in words, as the command and the console write it: `1 device`, `2 devices`, `1,204 devices`. */
export const counted = (number: number, one: string, many = `${one}s`): string =>
  `${number.toLocaleString('en-GB')} ${number === 1 ? one : many}`;
