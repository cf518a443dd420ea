/** Wakes waiters for changes in an environment, within this instance. */
import { EventEmitter } from 'node:events';
import { afterCommit } from '../database/unit.js';

export class ChangeSignal {
  readonly #emitter = new EventEmitter().setMaxListeners(0);

  wake(environmentId: string): void {
    afterCommit(() => this.#emitter.emit(environmentId));
  }

  /** @returns a function that ends listening */
  listen(environmentId: string, heard: () => void): () => void {
    this.#emitter.on(environmentId, heard);
    return () => this.#emitter.off(environmentId, heard);
  }

  /** Ends every stream, when the service stops. */
  close(): void {
    this.#emitter.emit('close');
    this.#emitter.removeAllListeners();
  }

  onClose(ended: () => void): () => void {
    this.#emitter.on('close', ended);
    return () => this.#emitter.off('close', ended);
  }
}
