/** For whom a run reaches what it does. */
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import type { HookedWrite } from '../records/ports.js';

export type MadeCall = { name: string; about: string; ms: number; ok: boolean };
/** Where a hook before an action gathers what it writes; `isApart` where there is nothing that it could join. */
export type Joining = Pick<HookedWrite, 'relies' | 'joined'> & { isApart?: boolean };
export type Reaching = {
  environment: Environment;
  /** Of the function. */
  name: string;
  author: Author;
  /** Whose action it runs for, also where it has rights of its own. */
  userId: string | null;
  hosts: readonly string[];
  secret: (name: string) => Promise<string>;
  joining?: Joining;
  isTrial?: boolean;
};
