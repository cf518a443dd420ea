/** A thread that hashes passwords, behind everything else: a sign-in may take a moment, other calls may not. */
import { answerTasks } from '../threads/answering.js';
import { stepBehind } from '../threads/threadFile.js';
import type { HashTask } from './hashThreads.js';
import { makeHash, matchesHash } from './passwordHashes.js';

stepBehind(10);
answerTasks(({ password, against }: HashTask) => (against === null ? makeHash(password) : matchesHash(against, password)));
