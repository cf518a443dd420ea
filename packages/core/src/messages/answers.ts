/** What a network's response means. `address-dead`: the address will never work again. */
export const ANSWER_MEANINGS = ['accepted', 'later', 'address-dead', 'credentials-refused', 'too-large', 'refused'] as const;
export type AnswerMeaning = (typeof ANSWER_MEANINGS)[number];
