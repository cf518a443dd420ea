/** A thread that encrypts push messages, behind the calls. */
import { encryptMessage } from '@orchard/core/push';
import { answerTasks } from '../../platform/threads/answering.js';
import { stepBehind } from '../../platform/threads/threadFile.js';
import type { EncryptTask } from './encryptThreads.js';

stepBehind(5);
answerTasks(({ plain, p256dh, auth, salt }: EncryptTask): Uint8Array => {
  const keys = { p256dh: Buffer.from(p256dh, 'base64url'), auth: Buffer.from(auth, 'base64url') };
  return encryptMessage(plain, keys, { salt: Buffer.from(salt) });
});
