/** `times('booking_confirmed', 28)` in a filter: how often the person behind a device did something in the last days. */
import type { Scalar, ScopeFunction } from '../filter/condition.js';

export type Behaviour = {
  event: string;
  days: number;
  /** CQL2 over the event's properties. */
  filter: string | null;
};

export const MOST_BEHAVIOUR_DAYS = 400;

export const TIMES: ScopeFunction = {
  kind: 'number',
  check: (args) => {
    const [event, days, filter] = args;
    const isRight =
      args.length >= 2 &&
      args.length <= 3 &&
      typeof event === 'string' &&
      event !== '' &&
      typeof days === 'number' &&
      Number.isInteger(days) &&
      days >= 1 &&
      days <= MOST_BEHAVIOUR_DAYS &&
      (filter === undefined || typeof filter === 'string');
    return isRight
      ? null
      : `Expected times('event', days), such as times('booking_confirmed', 28) >= 2, or with a condition: times('booking_confirmed', 28, 'nights > 1'). Days are 1 to ${MOST_BEHAVIOUR_DAYS}`;
  },
};

/** @param args as {@link TIMES} has checked them */
export const behaviourOf = ([event, days, filter]: readonly Scalar[]): Behaviour => ({
  event: event as string,
  days: days as number,
  filter: (filter as string | undefined) ?? null,
});
