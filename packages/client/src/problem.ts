/** What can go wrong with a call. */

/** A problem document of the service (RFC 9457 section 3.1). */
export type ProblemDocument = {
  type: string;
  title: string;
  status: number;
  detail: string;
  request?: string;
  fields?: { path: string; problem: string; expected: string }[];
  currentVersion?: number;
  [member: string]: unknown;
};

/** The service refused a call: `problem` names the kind, `detail` says what to do. */
export class Problem extends Error {
  readonly problem: string;
  readonly status: number;
  readonly detail: string;
  /** The recorded request, to look it up in the console. */
  readonly request: string | undefined;
  readonly extras: ProblemDocument;

  constructor(document: ProblemDocument) {
    super(document.detail);
    this.name = 'Problem';
    this.problem = document.type.split('/').at(-1) ?? '';
    this.status = document.status;
    this.detail = document.detail;
    this.request = document.request;
    this.extras = document;
  }
}

/** Why no answer of the service came. */
export type Silence = 'network' | 'time-limit' | 'other-answer';

/** The service could not be reached, or something else answered in its place. The call may have been done. */
export class Unreachable extends Error {
  constructor(
    readonly why: Silence,
    message: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
    this.name = 'Unreachable';
  }
}
