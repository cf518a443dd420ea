import fc from 'fast-check';
import { expect, it } from 'vitest';
import { SegmentReceipts } from '../src/messages/gateways/segmentReceipts.js';

const receipt = (messageId: string, state: string) => ({ messageId, state, error: null });

it('tells of a message once, whatever order its receipts come in: arrived with the last, or failed with the first that is', () => {
  const endings = fc.array(fc.constantFrom('DELIVRD', 'DELIVRD', 'UNDELIV', 'EXPIRED'), { minLength: 2, maxLength: 8 });
  fc.assert(
    fc.property(endings, fc.array(fc.nat(), { minLength: 8, maxLength: 8 }), (states, keys) => {
      const segments = new SegmentReceipts();
      const ids = states.map((_, i) => `id${i}`);
      segments.add(ids);
      const order = ids.map((_, i) => i).sort((a, b) => (keys[a] as number) - (keys[b] as number));
      const told = order.flatMap((i) => segments.take(receipt(ids[i] as string, states[i] as string)) ?? []);
      const first = order.find((i) => states[i] !== 'DELIVRD');
      expect(told).toEqual([receipt(ids.at(-1) as string, first === undefined ? 'DELIVRD' : (states[first] as string))]);
    }),
  );
});

it('waits for the end of a segment that is on its way, and hands on what it does not know', () => {
  const segments = new SegmentReceipts();
  segments.add(['a', 'b']);
  expect(segments.take(receipt('a', 'ENROUTE'))).toBeNull();
  expect(segments.take(receipt('a', 'DELIVRD'))).toBeNull();
  expect(segments.take(receipt('b', 'DELIVRD'))).toEqual(receipt('b', 'DELIVRD'));
  expect(segments.take(receipt('other', 'DELIVRD'))).toEqual(receipt('other', 'DELIVRD'));
});

it('closes a message whose receipts were here before the answer to its last segment', () => {
  const segments = new SegmentReceipts();
  segments.begin();
  segments.take(receipt('a', 'DELIVRD'));
  expect(segments.add(['a', 'b'])).toBeNull();
  expect(segments.take(receipt('b', 'DELIVRD'))).toEqual(receipt('b', 'DELIVRD'));
  for (const id of ['c', 'd']) segments.take(receipt(id, 'DELIVRD'));
  expect(segments.add(['c', 'd'])).toEqual(receipt('d', 'DELIVRD'));
});
