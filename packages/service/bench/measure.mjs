// Alternating rounds of two contenders, and what they come to.
const sorted = (list) => [...list].sort((a, b) => a - b);
export const median = (list) => sorted(list)[Math.floor(list.length / 2)];

/** Keeps `width` calls in flight until `count` are through. @returns calls a second */
export async function rate(call, count, width) {
  let next = 0;
  const started = process.hrtime.bigint();
  const lane = async () => {
    while (next < count) await call(next++);
  };
  await Promise.all(Array.from({ length: width }, lane));
  return count / (Number(process.hrtime.bigint() - started) / 1e9);
}

/** Runs `ours` and `bare` in turn, the order changing each round; the median of the rounds' ratios counts. */
export async function compare({ ours, bare, rounds, count, width, warmUp = count }) {
  for (const call of [bare, ours]) await rate(call, warmUp, width);
  const results = [];
  for (let round = 0; round < rounds; round++) {
    const pair = {};
    for (const name of round % 2 ? ['ours', 'bare'] : ['bare', 'ours'])
      pair[name] = await rate(name === 'ours' ? ours : bare, count, width);
    results.push(pair);
  }
  return {
    ratio: median(results.map((pair) => pair.ours / pair.bare)),
    ours: median(results.map((pair) => pair.ours)),
    bare: median(results.map((pair) => pair.bare)),
    spread: sorted(results.map((pair) => pair.ours / pair.bare)),
  };
}
