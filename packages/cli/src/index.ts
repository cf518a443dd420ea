/** Runs the `orchard` command: reports errors, and sets the exit code. */
import { Problem } from '@orchard/contract';
import { CommanderError } from 'commander';
import { CommandError } from './context.js';
import { buildProgram } from './program.js';
import { printError, surroundings } from './surroundings.js';

const SIGN_IN: ReadonlySet<string> = new Set(['member-sign-in-needed', 'sign-in-refused', 'second-factor-needed', 'second-factor-refused']);

function exitCode(error: unknown): number {
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : 2;
  if (error instanceof CommandError) return error.code;
  if (!(error instanceof Problem)) return 1;
  if (SIGN_IN.has(error.problem)) return 3;
  if (error.status === 404) return 5;
  return error.status < 500 ? 4 : 1;
}

/** What is wrong with a field and what it must be, unless the problem says so itself. */
function withExpected(problem: string, expected: string): string {
  const wanted = expected.replace(/\.$/, '');
  return problem.includes(wanted) ? problem : `${problem} Expected: ${wanted}.`;
}

/** What a script can do about a confirmation, which is asked for in a terminal only. */
const WITHOUT_TERMINAL = 'Run the command in a terminal, which asks you, or sign in again first: a sign-in counts for ten minutes.';

function sentence(error: unknown): string {
  if (error instanceof Problem) {
    const fields =
      error.extras.fields?.map(({ path, problem, expected }) => `\n  ${path}: ${withExpected(problem, expected)}`).join('') ?? '';
    const hint = error.problem === 'confirmation-needed' ? ` ${WITHOUT_TERMINAL}` : '';
    return `${error.detail}${hint}${fields}${error.request ? `\n(request ${error.request})` : ''}`;
  }
  if (error instanceof TypeError && error.message === 'fetch failed')
    return `The service cannot be reached (${(error.cause as { code?: string })?.code ?? 'no answer'}). Is it running, and is the address right?`;
  return (error as Error).message;
}

/** Runs a command line; sets the exit code. @param words what follows the name of the command */
export async function run(words: readonly string[] = process.argv.slice(2)): Promise<void> {
  const here = surroundings();
  // The reader has closed the pipe, as `| head` does: that is no failure.
  here.stdout.on('error', (error: NodeJS.ErrnoException) => {
    if (error.code !== 'EPIPE') throw error;
    process.exit(0);
  });
  try {
    await buildProgram().parseAsync(words, { from: 'user' });
  } catch (error) {
    if (!(error instanceof CommanderError)) printError(sentence(error));
    here.exitCode = exitCode(error);
  }
}

export { runIn, type Surroundings } from './surroundings.js';
