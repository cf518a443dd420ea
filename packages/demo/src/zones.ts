/** Where the apps' people are, made up. */

/** 45 minutes off the hour, which the form of 2.6.0 could not take. */
export const BROKEN_ZONE = 'Asia/Kathmandu';
export const ZONES: [zone: string, country: string, locale: string, share: number][] = [
  ['Europe/Oslo', 'NO', 'nb-NO', 0.4],
  ['Europe/Berlin', 'DE', 'de-DE', 0.22],
  ['Europe/London', 'GB', 'en-GB', 0.16],
  [BROKEN_ZONE, 'NP', 'ne-NP', 0.12],
  ['America/St_Johns', 'CA', 'en-CA', 0.1],
];
/** Of those that report one, by ISO 3166-2; an empty one of those that do not. */
export const REGIONS: Record<string, string[]> = {
  NO: ['NO-46', 'NO-46', 'NO-34', 'NO-03', 'NO-50', ''],
  DE: ['DE-BY', 'DE-BE', 'DE-HH', ''],
  GB: ['GB-SCT', 'GB-ENG', 'GB-WLS'],
  NP: ['NP-P3', 'NP-P4'],
  CA: ['CA-NL', 'CA-NS'],
};
