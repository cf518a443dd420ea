/** Receives the failure notices that mail servers send when an accepted mail cannot be delivered: DSN (RFC 3464). */
import { simpleParser } from 'mailparser';
import { SMTPServer } from 'smtp-server';
import type { Parts } from './parts.js';
import { failReturned } from '../notifications/deliveryStore.js';

const MOST_BYTES = 200_000;
/** What a notice says of one recipient. */
export type BounceReport = { action: string; status: string | null; diagnostic: string | null };

/** Reads the fields of a message/delivery-status part (RFC 3464 section 2.3): the first recipient's. */
export function readDeliveryStatus(text: string): BounceReport | null {
  const field = (name: string) =>
    new RegExp(`^${name}:[ \\t]*(.+(?:\\r?\\n[ \\t].+)*)`, 'im').exec(text)?.[1]?.replace(/\s+/g, ' ').trim() ?? null;
  const action = field('Action');
  return action
    ? { action: action.toLowerCase(), status: field('Status'), diagnostic: field('Diagnostic-Code')?.replace(/^smtp;\s*/i, '') ?? null }
    : null;
}

/** The mark in an address such as `huts+<environment>.<message>@quillfell.example`. */
const markOf = (address: string): { environmentId: string; mark: string } | null => {
  const found = /\+(([a-z2-7]+)\.[a-z0-9]+)@/.exec(address.toLowerCase());
  return found ? { environmentId: found[2] as string, mark: found[1] as string } : null;
};

/** Listens for notices. @returns a function that ends it */
export async function receiveBounces(parts: Parts, port: number, host: string): Promise<() => Promise<void>> {
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['AUTH', 'STARTTLS'],
    disableReverseLookup: true,
    size: MOST_BYTES,
    banner: 'failure notices only',
    onRcptTo: ({ address }, _session, done) =>
      markOf(address)
        ? done()
        : done(Object.assign(new Error('5.1.1 Only failure notices of messages sent from here are taken'), { responseCode: 550 })),
    onData: (stream, session, done) => {
      simpleParser(stream)
        .then(async ({ attachments, text }) => {
          const part = attachments.find(({ contentType }) => contentType === 'message/delivery-status');
          const report = readDeliveryStatus(part?.content.toString() ?? text ?? '');
          for (const { address } of session.envelope.rcptTo) if (report?.action === 'failed') await note(parts, address, report);
          done();
        })
        .catch(done);
    },
  });
  server.on('error', (error) => parts.log.warn({ err: error }, 'a failure notice could not be processed'));
  await new Promise<void>((resolve, reject) => {
    const listening = server.listen(port, host, () => resolve());
    listening.once('error', reject);
  });
  return () => new Promise((resolve) => server.close(() => resolve()));
}

/** The delivery has failed after all, with the server's message. */
async function note(parts: Parts, address: string, { status, diagnostic }: BounceReport): Promise<void> {
  const found = markOf(address);
  const environment = found && (await parts.directory.environmentById(found.environmentId));
  if (!found || !environment) return;
  const reason = `The mail was returned${status ? ` (${status})` : ''}: ${diagnostic ?? 'no reason was given'}.`;
  await failReturned(environment, found.mark, reason, diagnostic, new Date(parts.now()));
  parts.changes.wake(environment.id);
}
