/**
 * Log-linear latency histograms: each power of two is cut into eight equal steps, so a quantile read back is at
 * most 1/8 off, and two histograms merge by adding counts. Values are microseconds, whole numbers.
 */

const STEPS = 8;
const STEP_BITS = 3;
/** Bucket of everything from about 71 minutes up. */
export const MAX_BUCKET = 32 * STEPS - 1;

/** Counts by bucket number; sparse. */
export type Histogram = Map<number, number>;

/** The bucket a value falls into. Values 0 to 7 have a bucket each; negative ones count as 0. */
export function bucketOf(valueUs: number): number {
  const value = Math.max(0, Math.floor(valueUs));
  if (value < STEPS) return value;
  const exponent = 31 - Math.clz32(Math.min(value, 0xffffffff) >>> 0);
  const step = Math.floor(Math.min(value, 0xffffffff) / 2 ** (exponent - STEP_BITS)) - STEPS;
  return Math.min((exponent - STEP_BITS + 1) * STEPS + step, MAX_BUCKET);
}

/** The lower bound of a bucket, in microseconds. The upper bound is the next bucket's lower one. */
export function bucketStart(bucket: number): number {
  if (bucket < STEPS) return bucket;
  const exponent = Math.floor(bucket / STEPS) - 1;
  return (STEPS + (bucket % STEPS)) * 2 ** exponent;
}

export function addValue(histogram: Histogram, valueUs: number, count = 1): void {
  const bucket = bucketOf(valueUs);
  histogram.set(bucket, (histogram.get(bucket) ?? 0) + count);
}

export function mergeInto(target: Histogram, source: Iterable<readonly [number, number]>): void {
  for (const [bucket, count] of source) target.set(bucket, (target.get(bucket) ?? 0) + count);
}

/**
 * The values below which the given shares of all values lie (nearest rank, linear inside a bucket), in
 * microseconds; null for an empty histogram.
 */
export function quantiles(histogram: Histogram, shares: readonly number[]): (number | null)[] {
  const buckets = [...histogram].filter(([, count]) => count > 0).sort(([a], [b]) => a - b);
  const total = buckets.reduce((sum, [, count]) => sum + count, 0);
  return shares.map((share) => (total === 0 ? null : quantileOf(buckets, total, share)));
}

function quantileOf(buckets: [number, number][], total: number, share: number): number {
  const rank = Math.max(1, Math.ceil(share * total));
  let below = 0;
  for (const [bucket, count] of buckets) {
    if (below + count >= rank) {
      const start = bucketStart(bucket);
      return start + ((bucketStart(bucket + 1) - start) * (rank - below - 0.5)) / count;
    }
    below += count;
  }
  return bucketStart(MAX_BUCKET);
}

/** Packs a histogram as `bucket:count` pairs, for storage. */
export const packHistogram = (histogram: Histogram): string => [...histogram].map(([b, n]) => `${b}:${n}`).join(' ');

/** Reads what {@link packHistogram} wrote. */
export function unpackHistogram(text: string): [number, number][] {
  if (!text) return [];
  return text.split(' ').map((pair) => pair.split(':').map(Number) as [number, number]);
}

/** Counts of all buckets, for sums over many packed histograms: a map for each would cost more than the rest. */
export const denseHistogram = (): Float64Array => new Float64Array(MAX_BUCKET + 1);

const [SPACE, COLON, ZERO] = [32, 58, 48];

/** Adds what {@link packHistogram} wrote to a sum, character by character. */
export function addPacked(sum: Float64Array, packed: string): void {
  let bucket = 0;
  let number = 0;
  for (let i = 0; i < packed.length; i++) {
    const code = packed.charCodeAt(i);
    if (code === COLON) {
      bucket = number;
      number = 0;
    } else if (code === SPACE) {
      sum[bucket] = (sum[bucket] as number) + number;
      number = 0;
    } else number = number * 10 + code - ZERO;
  }
  if (packed.length > 0) sum[bucket] = (sum[bucket] as number) + number;
}

/** A sum as a histogram. */
export function sparseHistogram(sum: Float64Array): Histogram {
  const histogram: Histogram = new Map();
  for (let bucket = 0; bucket < sum.length; bucket++) if (sum[bucket]) histogram.set(bucket, sum[bucket] as number);
  return histogram;
}
