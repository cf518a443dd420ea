/** One role to give, as a form has it: in an environment of an app, or in all of them. */
import type { Role } from '@orchard/contract';

export type ChosenRole = { app: string /** Empty for all. */; environment: string; role: Role };

/** The role as calls take it. */
export const roleOf = ({ app, environment, role }: ChosenRole) => ({ app, role, ...(environment ? { environment } : {}) });
