import { CommandError } from './context.js';

/** What an option holds as JSON. @throws {CommandError} */
export function jsonOption(text: string, option: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new CommandError(`${option} is no JSON: ${(error as Error).message}.`, 2);
  }
}
