/** A client that asks the person at the terminal to confirm who they are, where a sensitive change needs that. */
import { type ConfirmationMethod, type HttpClient, operations, Problem } from '@orchard/contract';
import { ask, askSecret } from './asking.js';
import { CommandError } from './commandError.js';
import { surroundings } from './surroundings.js';

const isNeeded = (error: unknown): error is Problem => error instanceof Problem && error.problem === 'confirmation-needed';

export function confirming(client: HttpClient): HttpClient {
  const withProof = async <T>(work: () => Promise<T>): Promise<T> => {
    try {
      return await work();
    } catch (error) {
      // A script cannot answer; it gets the problem, which says what to do.
      if (!isNeeded(error) || !surroundings().stdin.isTTY) throw error;
      await prove(client, error.extras.methods ?? ['password']);
      return work();
    }
  };
  return {
    address: client.address,
    call: (operation, input) => withProof(() => client.call(operation, input)),
    exchange: (operation, input) => withProof(() => client.exchange(operation, input)),
    open: (operation, input) => withProof(() => client.open(operation, input)),
  };
}

async function prove(client: HttpClient, methods: readonly ConfirmationMethod[]): Promise<void> {
  const body = methods.includes('password')
    ? { password: await askSecret('Confirm that it is you. Password: ') }
    : { code: await askCode(methods, 'Confirm that it is you. ') };
  await client.call(operations.secondFactors.confirm, { body });
}

/** Asks for a code; a passkey cannot be used in a terminal. */
export async function askCode(methods: readonly ConfirmationMethod[], why = ''): Promise<string> {
  const what = methods.includes('passkey') ? 'Code of your authenticator app, or a recovery code' : 'Code';
  const code = await ask(`${why}${what}: `, '--code');
  if (code === '') throw new CommandError('No code was given. A passkey works in the console only.', 2);
  return code;
}
