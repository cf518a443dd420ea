/** Every error the API can answer, in one catalogue. Replies are RFC 9457 problem details. */
import { z } from 'zod';

/** With what a member proves who they are. */
export const CONFIRMATION_METHODS = ['password', 'code', 'passkey'] as const;
export type ConfirmationMethod = (typeof CONFIRMATION_METHODS)[number];

/** Status and title of each problem; the name is the last part of its `type`, a path under /docs/problems/. */
export const PROBLEMS = {
  'malformed-json': {
    status: 400,
    title: 'The body is not JSON',
    cure: 'Send one JSON value in UTF-8, with `Content-Type: application/json`.',
  },
  'invalid-input': {
    status: 422,
    title: 'The request is not valid',
    cure: 'See `fields`: each entry names a path, what is wrong with it and what would be right.',
  },
  'malformed-filter': { status: 422, title: 'The filter cannot be read', cure: 'Correct the filter at the position named in `detail`.' },
  'body-too-large': { status: 413, title: 'The body is too large', cure: 'A body has at most 1 MB, a batch 16 MB. Send less in one call.' },
  'file-too-large': {
    status: 413,
    title: 'The file is too large',
    cure: 'See `detail` for the most that is taken here. Nothing was stored.',
  },
  'quota-exceeded': {
    status: 413,
    title: 'There is no room left for this file',
    cure: 'Delete files that are not needed, or ask the team of the app to raise the limit. Nothing was stored.',
  },
  // RFC 4918 section 11.5.
  'storage-full': {
    status: 507,
    title: 'The disk of the service is full',
    cure: 'The team has to make room on the disk of the service. Nothing was stored.',
  },
  // RFC 9110 section 15.5.17.
  'range-not-satisfiable': {
    status: 416,
    title: 'The range lies outside the content',
    cure: 'See `Content-Range` of the response for the size, and ask for a range within it.',
  },
  'digest-mismatch': {
    status: 422,
    title: 'The content does not match its digest',
    cure: 'It changed on the way, or the digest is of something else. Send it again. Nothing was stored.',
  },
  'upload-broken': {
    status: 400,
    title: 'The upload ended too early',
    cure: 'Send it again, or by /app/v1/uploads, which continues where it broke. Nothing was stored.',
  },
  'upload-refused': { status: 400, title: 'The upload does not follow tus 1.0', cure: 'See `detail`.' },
  'upload-address-ended': {
    status: 410,
    title: 'The upload address is not valid any more',
    cure: 'It was used, or its time is over. Ask the app for a new one.',
  },
  'share-link-ended': {
    status: 410,
    title: 'The share link has ended',
    cure: 'Its time or its number of downloads is over, or the file is gone. Ask for a new one.',
  },
  'folder-not-empty': { status: 409, title: 'The folder is not empty', cure: 'Add `files=true` to delete what is in it, too.' },
  'too-many-broadcasts': {
    status: 429,
    title: 'Too many broadcasts at once',
    cure: 'End one of those that go on, or raise the limit under Broadcasts, Rules and limits.',
  },
  'broadcast-ended': { status: 410, title: 'The broadcast has ended', cure: 'Begin another one.' },
  'broadcast-refused': { status: 422, title: 'What arrives cannot be broadcast', cure: 'See `detail`.' },
  'piece-missing': {
    status: 409,
    title: 'A piece is missing',
    cure: 'Send the piece whose number stands in `detail`, or begin anew with 0.',
  },
  'no-encoder': {
    status: 503,
    title: 'There is no encoder',
    cure: 'The team has to install `ffmpeg` on the machine of the service: `apt-get install ffmpeg`.',
  },
  'no-rendition': { status: 422, title: 'There is no such rendition', cure: 'See `detail`.' },
  'content-damaged': {
    status: 500,
    title: 'The stored content is damaged',
    cure: 'The disk of the service gave back something else than was stored. The team sees it under Files, and can put a copy in its place.',
  },
  'unsupported-media-type': {
    status: 415,
    title: 'This call does not accept the media type of the body',
    cure: 'Use `Content-Type: application/json`; a PATCH also takes `application/merge-patch+json`.',
  },
  'key-missing': { status: 401, title: 'No key was sent', cure: 'Send the key of a client in the header `Orchard-Key`.' },
  'key-mistyped': { status: 401, title: 'The key is mistyped', cure: 'Its check characters do not match: copy the whole key again.' },
  'key-unknown': {
    status: 401,
    title: 'The key is unknown',
    cure: 'It is well formed but belongs to no environment of this installation. Check the base address.',
  },
  'key-revoked': { status: 401, title: 'The key was revoked', cure: 'Create a new key for this client under Setup, Clients and keys.' },
  'key-wrong-kind': { status: 403, title: 'This call needs a different kind of key', cure: 'See `detail` for the kind it needs.' },
  'scope-missing': { status: 403, title: 'The server key lacks a scope', cure: 'Create a server key with the scope named in `detail`.' },
  'origin-blocked': {
    status: 403,
    title: 'This web origin is not allowed',
    cure: 'Allow the origin for this client under Setup, Clients and keys.',
  },
  'token-missing': {
    status: 401,
    title: 'Nobody is signed in',
    cure: 'Sign in with POST /app/v1/sessions and send `Authorization: Bearer <access token>`.',
  },
  'token-invalid': {
    status: 401,
    title: 'The token is not valid here',
    cure: 'Sign in again; a token works only in the environment that issued it.',
  },
  'token-expired': {
    status: 401,
    title: 'The token has expired',
    cure: 'Use the refresh token with POST /app/v1/sessions to get a new one.',
  },
  'app-outdated': {
    status: 403,
    title: 'This version of the app is too old to sign in',
    cure: 'Install a newer version of the app; `detail` says which is the oldest that may.',
  },
  'confirmation-missing': {
    status: 403,
    title: 'The mail address is not confirmed yet',
    cure: 'Open the address in the mail that was sent to it, and sign in again.',
  },
  'session-ended': { status: 401, title: 'The session has ended', cure: 'Sign in again with e-mail address and password.' },
  'sign-in-refused': {
    status: 401,
    title: 'E-mail address or password is wrong',
    cure: 'Check both. An address that is not registered gets the same response.',
  },
  'member-sign-in-needed': {
    status: 401,
    title: 'You are not signed in as a member',
    cure: 'Sign in to the console, or run `orchard sign-in`.',
  },
  'csrf-refused': {
    status: 403,
    title: 'The call did not come from the console',
    cure: 'Send the header `Orchard-Csrf` with the value that GET /manage/v1/session returned.',
  },
  'role-insufficient': { status: 403, title: 'Your role does not allow this', cure: 'Ask an owner for the role named in `detail`.' },
  'access-refused': { status: 403, title: 'The access rule refuses this', cure: 'See `detail` for the rule and what it requires.' },
  'setup-done': { status: 409, title: 'The owner account exists already', cure: 'Sign in at the console.' },
  'setup-refused': {
    status: 403,
    title: 'The one-time address is not valid',
    cure: 'Open the address that the service printed when it last started.',
  },
  'not-found': { status: 404, title: 'Not found', cure: 'See `detail` for what is missing.' },
  'collection-unknown': {
    status: 404,
    title: 'The collection does not exist',
    cure: 'Check the spelling. In a closed environment, create the collection first.',
  },
  'already-exists': { status: 409, title: 'It exists already', cure: 'Choose another name or id, or change the one that exists.' },
  'still-referenced': {
    status: 409,
    title: 'Other records refer to it',
    cure: 'Change or delete the records named in `detail` first.',
  },
  'records-do-not-fit': {
    status: 409,
    title: 'Records do not fit the change',
    cure: 'See `fields` for examples. Correct those records, or choose what happens to them.',
  },
  'limit-passed': {
    status: 409,
    title: 'The sum would pass a limit of the field',
    cure: 'See `fields` for the limit. Nothing was added.',
  },
  'devices-stranded': {
    status: 409,
    title: 'Registered devices could not be reached any more',
    cure: 'Keep the address and project that they registered with, or set `strandDevices` to go ahead all the same.',
  },
  'outside-unavailable': {
    status: 503,
    title: 'The outside server does not answer as it should',
    cure: 'Try again later. The page of the table says what its last check found.',
  },
  'outside-changed': {
    status: 502,
    title: 'The outside table is not what it was',
    cure: 'Compare its columns with the fields on the page of the table, and choose them anew.',
  },
  'outside-unsupported': {
    status: 422,
    title: 'An outside table cannot do this',
    cure: 'See `detail`. Collections of the environment itself can.',
  },
  'function-refused': {
    status: 422,
    title: 'The function has errors',
    cure: 'See `fields` for file, line and column of each. Nothing was changed.',
  },
  'function-failed': {
    status: 502,
    title: 'The function failed',
    cure: 'The team sees its error among the runs of the function, under the id of this request.',
  },
  'function-stopped': {
    status: 503,
    title: 'The function was stopped at a limit',
    cure: 'The team sees which limit among the runs of the function, under the id of this request.',
  },
  'upstream-failed': {
    status: 502,
    title: 'The system behind this did not answer as it should',
    cure: 'Try again later. The team sees why among the requests, under the id of this one.',
  },
  'upstream-resting': {
    status: 503,
    title: 'The system behind this is left alone for a while',
    cure: 'Most calls of it failed. Try again after the time in Retry-After.',
  },
  'refused-by-function': {
    status: 422,
    title: 'A function of the team refuses this',
    cure: 'See `detail`, which is in the words of the team.',
  },
  'hooks-too-deep': {
    status: 508,
    title: 'Functions keep calling for each other',
    cure: 'Hooks that write trigger hooks in turn. Change the one named in `detail`, so that the chain ends.',
  },
  'key-reused': {
    status: 422,
    title: 'The Idempotency-Key belongs to another call',
    cure: 'Use a new key for every new call, and the same one only to send the same call again.',
  },
  'import-refused': {
    status: 422,
    title: 'The import was stopped',
    cure: 'Correct the line named in `detail`, or import without `strict` to go on past it. Nothing was stored.',
  },
  'version-conflict': {
    status: 412,
    title: 'The record has changed in the meantime',
    cure: 'Read it again, apply your change to the current version, and send that version in If-Match.',
  },
  'message-too-large': {
    status: 422,
    title: 'The notification is too large',
    cure: 'Shorten body or data; see `detail` for the limit of each gateway.',
  },
  'audience-empty': {
    status: 422,
    title: 'The audience is empty',
    cure: 'Preview the audience and choose one that is not empty.',
  },
  'setup-invalid': {
    status: 422,
    title: 'The setup cannot be',
    cure: 'See `fields` for what is wrong in it, and where.',
  },
  'setup-changed': {
    status: 409,
    title: 'The setup was changed since the comparison',
    cure: 'Compare again, look at the difference, and apply that.',
  },
  'setup-in-progress': {
    status: 409,
    title: 'Another release is being applied',
    cure: 'Wait until it has ended; `orchard release list` shows how far it is.',
  },
  'setup-loses-data': {
    status: 409,
    title: 'Applying this loses data',
    cure: 'Look at the difference. To apply it nevertheless, send `loseData`.',
  },
  'wrong-state': {
    status: 409,
    title: 'The current state does not allow this',
    cure: 'See `detail` for its state and what that state allows.',
  },
  'credential-refused': {
    status: 422,
    title: 'The credential cannot be used',
    cure: 'See `detail` for what the file is and which file is needed. Nothing was stored.',
  },
  'mapping-refused': {
    status: 422,
    title: 'The gateway mapping is not valid',
    cure: 'See `fields`: each entry is a place in the mapping. docs/gateways.md explains how to write one. Nothing was stored.',
  },
  'gateway-missing': {
    status: 409,
    title: 'There is no gateway for this',
    cure: 'Add one under Messages, Gateways, or with `orchard gateway add`.',
  },
  'invitation-refused': {
    status: 403,
    title: 'The invitation is not valid',
    cure: 'See `detail`. Ask an owner to invite you again.',
  },
  'second-factor-needed': {
    status: 401,
    title: 'A second factor is needed',
    cure: 'Send the code of the authenticator app, or a recovery code, as `code`: an app with the `ticket` to /app/v1/sessions/second-factor. Members with a passkey sign in at the console.',
  },
  'second-factor-refused': {
    status: 401,
    title: 'The second factor is wrong',
    cure: 'See `detail`. A code works once; a recovery code works as well.',
  },
  'confirmation-needed': {
    status: 403,
    title: 'Confirm that it is you',
    cure: 'Send POST /manage/v1/session/confirmation with your second factor, or your password if you have none, and call again.',
  },
  'link-refused': {
    status: 422,
    title: 'The one-time address is not valid',
    cure: 'It was used or has expired. Ask for a new one.',
  },
  'code-refused': { status: 422, title: 'The code is wrong', cure: 'Type the latest code again, or ask for a new one.' },
  'rate-exceeded': { status: 429, title: 'Too many calls', cure: 'Wait the number of seconds in Retry-After.' },
  'backup-in-progress': {
    status: 409,
    title: 'A backup or restore of this environment is under way',
    cure: 'Wait until it has ended; the list of backups says how far it is.',
  },
  'move-in-progress': {
    status: 409,
    title: 'The environment is being moved already',
    cure: 'Wait until that move has ended, or undo it before it switches.',
  },
  'environment-moved': {
    status: 410,
    title: 'The environment has moved to another installation',
    cure: 'Open it at the address that the detail names. Deleting it here ends the passing on of calls.',
  },
  'moved-installation-away': {
    status: 503,
    title: 'The installation that the environment has moved to does not answer',
    cure: 'Try again soon. Check that it runs, and that this one reaches its address.',
  },
  'arrival-refused': {
    status: 401,
    title: 'The ticket of the move is not valid',
    cure: 'Make a new one at the installation that is moved to: `orchard env receive`.',
  },
  'backup-place-unusable': {
    status: 422,
    title: 'The place of the backups cannot be used',
    cure: 'See `detail`: it says what is wrong there. Nothing was changed.',
  },
  'backup-unreadable': {
    status: 422,
    title: 'The backup cannot be read',
    cure: 'See `detail`: it is damaged, incomplete, or of a newer version. Nothing was changed.',
  },
  'backup-key-missing': {
    status: 422,
    title: 'The key of the backup is not at hand',
    cure: 'Add the key that it was made with to ORCHARD_BACKUP_KEY, after the present one, and start the service again. Without it nobody can read the backup.',
  },
  busy: {
    status: 503,
    title: 'Another change is in progress',
    cure: 'Try again after the seconds in Retry-After. Nothing was stored.',
  },
  'statement-too-slow': {
    status: 503,
    title: 'The database took too long',
    cure: 'Ask for less: a narrower filter, a sort by indexed fields. Or try again after the seconds in Retry-After. Nothing was stored.',
  },
  'answer-too-large': {
    status: 422,
    title: 'The response would be too large',
    cure: 'Ask for less at a time: a smaller `limit`, fewer `fields`, fewer `include`s. For more, use an export.',
  },
  'answers-unread': {
    status: 503,
    title: 'Too many unread responses',
    cure: 'Read the open responses, or ask for smaller ones. Try again after the seconds in Retry-After.',
  },
  'method-not-allowed': {
    status: 405,
    title: 'Method not allowed',
    cure: 'See the header `Allow` for the allowed methods.',
  },
  'headers-too-large': {
    status: 431,
    title: 'Address and headers are too large',
    cure: 'Together they may have at most 16 kB. Send long filters in a body, with POST /app/v1/queries/{collection}.',
  },
  'database-unavailable': {
    status: 503,
    title: 'The database does not respond',
    cure: 'Try again after the seconds in Retry-After. Nothing was stored.',
  },
  'shutting-down': { status: 503, title: 'The service is stopping', cure: 'Try again after the seconds in Retry-After.' },
  unexpected: {
    status: 500,
    title: 'Internal error',
    cure: 'Look up the request id in the service log. If it happens again, report it.',
  },
} as const satisfies Record<string, { status: number; title: string; cure: string }>;

export type ProblemName = keyof typeof PROBLEMS;

export const fieldProblemSchema = z.object({
  path: z.string().describe('Where, dotted: `body.nights`, `query.limit`'),
  problem: z.string().describe('What is wrong'),
  expected: z.string().describe('What would be right'),
});

/** RFC 9457 section 3.1, with our extension members `request`, `fields` and `currentVersion`. */
export const problemSchema = z
  .object({
    type: z.string(),
    title: z.string(),
    status: z.int(),
    detail: z.string(),
    request: z.string().optional().describe('The id to look this request up by'),
    fields: z.array(fieldProblemSchema).optional(),
    currentVersion: z.int().optional().describe('With 412: the version the record has now'),
    methods: z.array(z.enum(CONFIRMATION_METHODS)).optional().describe('With what they can prove who they are'),
    ticket: z.string().optional().describe('Of a sign-in that lacks the second factor; valid for five minutes'),
  })
  .meta({ id: 'Problem' });
export type ProblemDocument = z.infer<typeof problemSchema>;

export type ProblemExtras = Pick<ProblemDocument, 'fields' | 'currentVersion' | 'methods' | 'ticket'> & {
  retryAfterS?: number;
  /** In place of the problem's own status. */
  status?: number;
  /** Details for the team only: recorded with the request in place of `detail`, never sent. */
  teamDetail?: string;
};

/** A problem as it is thrown inside the service and by the HTTP client. */
export class Problem extends Error {
  constructor(
    readonly problem: ProblemName,
    readonly detail: string = PROBLEMS[problem].cure,
    readonly extras: ProblemExtras = {},
    readonly request?: string,
  ) {
    super(detail);
    this.name = 'Problem';
  }

  get status(): number {
    return this.extras.status ?? PROBLEMS[this.problem].status;
  }

  /** The document to send. */
  toDocument(request?: string): ProblemDocument {
    const { retryAfterS: _, teamDetail: _t, ...members } = this.extras;
    const { status, title } = PROBLEMS[this.problem];
    return { type: `/docs/problems/${this.problem}`, title, status, detail: this.detail, ...(request ? { request } : {}), ...members };
  }

  /** Reads a received document; an unknown type becomes `unexpected` with the text kept. */
  static from(document: ProblemDocument): Problem {
    const name = document.type?.split('/').at(-1) ?? '';
    const known = Object.hasOwn(PROBLEMS, name) ? (name as ProblemName) : 'unexpected';
    return new Problem(
      known,
      document.detail ?? document.title,
      { fields: document.fields, currentVersion: document.currentVersion, methods: document.methods, ticket: document.ticket },
      document.request,
    );
  }
}
