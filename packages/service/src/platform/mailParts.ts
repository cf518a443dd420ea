/** The further parts of a mail, as nodemailer takes them. */
import type { OutgoingMail } from './ports.js';

export const mailParts = ({ html, files = [] }: { html?: string | undefined; files?: OutgoingMail['files'] | undefined }) => ({
  ...(html ? { html } : {}),
  ...(files.length > 0
    ? {
        attachments: files.map(({ name, type, content, cid }) => ({
          filename: name,
          contentType: type,
          content,
          // RFC 2392: HTML names a part by its Content-ID.
          ...(cid ? { cid, contentDisposition: 'inline' as const } : {}),
        })),
      }
    : {}),
});
