/**
 * Files that were taken without a signal: kept on the device, sent when there is one, and put into the record they belong to. The
 * record waits for its file, or goes first, as the app says.
 */
import type { Local } from './local.js';
import type { QueuedFile } from './types.js';

export type FileWish = {
  /** Where the file goes. */
  path: string;
  content: Blob;
  /** The field that refers to it. */
  collection: string;
  record: string;
  field: string;
  /** Whether the record's changes wait until the file is stored. */
  first: boolean;
};
export type FileGround = {
  local: Local;
  newId: () => string;
  /** Sends a content, from where it stopped; tells the address to go on at. @returns the id of the file */
  send: (file: QueuedFile, began: (address: string) => Promise<void>) => Promise<string>;
};

export async function queueFile({ local, newId }: Omit<FileGround, 'send'>, { first, ...wish }: FileWish): Promise<string> {
  const id = newId();
  const changes = first ? local.changesOf(wish.collection, wish.record).filter(({ state }) => state === 'waiting') : [];
  await local.commit({ files: [{ id, ...wish }], pending: changes.map((change) => ({ ...change, waitsFor: id })) });
  return id;
}

/** Sends what is queued. A file that is refused is told, and lets its record go without it. */
export async function sendFiles(
  { local, send }: Omit<FileGround, 'newId'>,
  told: (file: QueuedFile, error: Error) => void,
): Promise<number> {
  let sent = 0;
  for (const file of [...local.files.values()]) {
    try {
      const stored = await send(file, (address) => local.commit({ files: [{ ...(local.files.get(file.id) ?? file), address }] }));
      await attach(local, file, stored);
      sent++;
    } catch (error) {
      if ((error as { status?: number }).status === undefined) throw error;
      told(file, error as Error);
      await release(local, file);
    }
  }
  return sent;
}

/** The change that waits takes the file with it; otherwise the record is changed. */
async function attach(local: Local, file: QueuedFile, stored: string): Promise<void> {
  const waiting = [...local.pending.values()].filter(({ waitsFor }) => waitsFor === file.id);
  const last = waiting.at(-1);
  if (last) {
    const pending = waiting.map(({ waitsFor: _, ...change }) =>
      change.id === last.id ? { ...change, fields: { ...change.fields, [file.field]: stored } } : change,
    );
    await local.commit({ pending, sentFiles: [file.id] });
  } else {
    await local.change(file.collection, file.record, { [file.field]: stored });
    await local.commit({ sentFiles: [file.id] });
  }
}

async function release(local: Local, file: QueuedFile): Promise<void> {
  const waiting = [...local.pending.values()].filter(({ waitsFor }) => waitsFor === file.id);
  await local.commit({ pending: waiting.map(({ waitsFor: _, ...change }) => change), sentFiles: [file.id] });
}
