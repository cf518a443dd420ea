/** Writers that go on without pause while something is done to the service. */
import { setTimeout as sleep } from 'node:timers/promises';
import { expect } from 'vitest';
import { callApp } from './support.js';

/** Each writer goes round its records. */
const RECORDS = 40;
const AFTER_REFUSAL_MS = 50;

export type Writers = {
  /** Ids of records of `huts` with the number of beds that was last acknowledged. */
  written: ReadonlyMap<string, number>;
  refused: { status: number; text: string }[];
  stop: () => Promise<void>;
};

/** @param addresses one writer for each @param key of a server */
export function keepWriting(addresses: readonly (string | (() => string))[], key: string): Writers {
  const stopping = new AbortController();
  const written = new Map<string, number>();
  const refused: Writers['refused'] = [];
  const lanes = addresses.map(async (address, writer) => {
    for (let i = 0; !stopping.signal.aborted; i++) {
      const id = `writer-${writer}-${i % RECORDS}`;
      const at = typeof address === 'string' ? address : address();
      const { status, text } = await callApp(at, 'PUT', `/data/huts/${id}`, { key, body: { name: id, beds: i } }).catch((error) => ({
        status: 0,
        text: String(error),
      }));
      if (status >= 200 && status < 300) written.set(id, i);
      else {
        // Whether one is stored whose answer was lost, nobody knows.
        written.delete(id);
        refused.push({ status, text: text.slice(0, 200) });
        await sleep(AFTER_REFUSAL_MS);
      }
    }
  });
  return {
    written,
    refused,
    stop: async () => {
      stopping.abort();
      await Promise.all(lanes);
    },
  };
}

/** Every record is as it was last acknowledged, whichever address is asked. */
export async function expectAll(written: Writers['written'], addresses: readonly string[], key: string): Promise<void> {
  for (const address of addresses)
    for (const [id, beds] of written) expect((await callApp(address, 'GET', `/data/huts/${id}`, { key })).body).toMatchObject({ beds });
}
