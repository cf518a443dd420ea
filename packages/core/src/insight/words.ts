/** The words of events and questions, without the machinery that works on them. */

/** Added by the service from the device and the client; properties of apps may not take these names. */
export const BUILT_IN = [
  'client',
  'platform',
  'os',
  'manufacturer',
  'model',
  'version',
  'locale',
  'timeZone',
  'country',
  'region',
] as const;
export type BuiltIn = (typeof BUILT_IN)[number];
export const PROPERTY_TYPES = ['text', 'number', 'boolean', 'time', 'list'] as const;
export type PropertyType = (typeof PROPERTY_TYPES)[number];

export const EVENT_PROBLEMS = {
  'event-malformed': 'It lacks a member, or one is not as it must be.',
  'event-in-future': 'Its time, without the skew of the clock, lies in the future.',
  'event-too-late': 'It is older than seven days.',
  'property-reserved': 'A property has a name that the service fills itself.',
  'property-unfit': 'A property has another type than the event plan says.',
  'event-unplanned': 'The event plan does not have it, and the environment takes only what is planned.',
  'too-many-names': 'There are too many names of events.',
  'device-unregistered': 'The device is not registered.',
  'consent-missing': 'The environment asks for consent, and the app did not say that there is.',
} as const;
export type EventProblem = keyof typeof EVENT_PROBLEMS;

/** `ordered`: others may come between; `strict`: none between; `any`: in any order. */
export const FUNNEL_ORDERS = ['ordered', 'strict', 'any'] as const;
export type FunnelOrder = (typeof FUNNEL_ORDERS)[number];

export const CALENDAR_STEPS = ['hour', 'day', 'week', 'month'] as const;
export type CalendarStep = (typeof CALENDAR_STEPS)[number];
