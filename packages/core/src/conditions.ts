/** From the best to the worst; without traffic nothing can be said. */
export const CONDITIONS = ['dormant', 'thriving', 'stressed', 'failing'] as const;
export type EnvironmentCondition = (typeof CONDITIONS)[number];
