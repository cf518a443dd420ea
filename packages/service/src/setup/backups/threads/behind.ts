/** Threads of backups run behind everything else, so that calls are served meanwhile. */
import { stepBehind as stepBehindBy } from '../../../platform/threads/threadFile.js';

export const stepBehind = (): void => stepBehindBy(15);
