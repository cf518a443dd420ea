/** Bars on standard error for work that takes longer than a second; none where that is no terminal. */
import type { Progress } from '@orchard/contract';
import progress from 'cli-progress';
import type { GlobalOptions } from './context.js';
import { surroundings } from './surroundings.js';

export const isBarShown = ({ quiet }: Pick<GlobalOptions, 'quiet'>): boolean => Boolean(surroundings().stderr.isTTY) && !quiet;

export const newBar = (format: string): progress.SingleBar =>
  new progress.SingleBar({
    format,
    stream: surroundings().stderr,
    hideCursor: true,
    clearOnComplete: true,
    barsize: 30,
    noTTYOutput: false,
    barCompleteChar: '█',
    barIncompleteChar: '░',
  });

/** Shows what the service tells of a call that takes long. */
export function callProgress(options: GlobalOptions): { onProgress: (progress: Progress) => void; stop: () => void } {
  let bar: progress.SingleBar | null = null;
  return {
    onProgress: ({ done, total }) => {
      if (!isBarShown(options)) return;
      if (!bar) (bar = newBar(' {bar} {value} of {total}')).start(total, done);
      bar.setTotal(total);
      bar.update(done);
    },
    stop: () => bar?.stop(),
  };
}
