/** The key of the archive that an environment arrives with: both sides have the ticket, so it need not be sent. */
import { hkdfSync } from 'node:crypto';
import { BackupKey } from '../backups/sealing.js';

export const archiveKey = (ticket: string): BackupKey =>
  new BackupKey(Buffer.from(hkdfSync('sha256', Buffer.from(ticket), '', 'archive of a move', 32)).toString('hex'));
