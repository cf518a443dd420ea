/** The side of a thread: answers the tasks of its pool. */
import { parentPort } from 'node:worker_threads';
import type { ThreadAnswer } from './threadPool.js';

/** @param work what is made of one task; what it throws is told to whoever asked */
export function answerTasks<Task, Value>(work: (task: Task) => Value): void {
  const answer = (task: Task): ThreadAnswer<Value> => {
    try {
      return { value: work(task) };
    } catch (error) {
      return { failed: (error as Error).message };
    }
  };
  parentPort?.on('message', (tasks: Task[]) => parentPort?.postMessage(tasks.map(answer)));
}
