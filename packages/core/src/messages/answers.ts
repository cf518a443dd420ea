/** What an answer of a network means. `address-dead`: the device is gone for good. */
export const ANSWER_MEANINGS = ['accepted', 'later', 'address-dead', 'credentials-refused', 'too-large', 'refused'] as const;
export type AnswerMeaning = (typeof ANSWER_MEANINGS)[number];
