/** The steps of a call, for its timeline. */
import type { Call } from '../call.js';

type Timed = Pick<Call, 'spans' | 'startedNs'>;

export async function inSpan<T>(call: Timed, step: string, startedNs: bigint, work: Promise<T> | T): Promise<T> {
  try {
    return await work;
  } finally {
    addSpan(call, step, startedNs);
  }
}

/** Steps that wait for nothing take no time worth showing, and get no span. */
export function addSpan(call: Timed, step: string, startedNs: bigint): void {
  const startUs = Number(startedNs - call.startedNs) / 1000;
  call.spans.push({ step, startUs, durationUs: Number(process.hrtime.bigint() - startedNs) / 1000 });
}
