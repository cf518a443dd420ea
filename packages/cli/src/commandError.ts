/** A refusal of the command itself. `code`: 1 failure, 2 wrong usage, 3 not signed in, 4 invalid, 5 not found. */
export class CommandError extends Error {
  constructor(
    message: string,
    readonly code: 1 | 2 | 3 | 4 | 5,
  ) {
    super(message);
  }
}
