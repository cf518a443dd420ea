/** Resumable uploads by tus 1.0.0; loaded when an app begins the first one. */
import { type Problem, Unreachable } from './problem.js';
import { sleep, type Transport } from './transport.js';
import { settable, type Value } from './value.js';

export type UploadState = {
  sent: number;
  size: number;
  state: 'running' | 'paused' | 'waiting' | 'done' | 'failed';
  problem?: Problem | Error;
};
export type Upload = {
  progress: Value<UploadState>;
  pause: () => void;
  resume: () => void;
  /** Gives it up; what was sent is forgotten. */
  cancel: () => Promise<void>;
  /** Resolves when the file is stored. */
  done: Promise<void>;
  /** Where it can be gone on with after a restart, by `files.upload(path, content, { resume })`. */
  address: Promise<string>;
};
type Properties = { [name: string]: string | number | boolean | null };
export type UploadOptions = {
  properties?: Properties;
  /** The address of an upload that was begun before. */
  resume?: string;
  pieceBytes?: number;
  /** Whether it waits for the service where it cannot be reached, as it does unless this is false. */
  waits?: boolean;
};

const PIECE = 5_000_000;
const LONGEST_WAIT_MS = 30_000;
const TUS = { 'tus-resumable': '1.0.0' };
const OCTETS = 'application/offset+octet-stream';

/** RFC 4648 section 4, of UTF-8: how tus writes metadata. */
const base64 = (text: string): string => btoa(String.fromCharCode(...new TextEncoder().encode(text)));

export function resumable(
  transport: Transport,
  request: (address: string, init: RequestInit) => Promise<Response>,
  path: string,
  content: Blob,
  { properties, resume, pieceBytes = PIECE, waits = true }: UploadOptions = {},
): Upload {
  const progress = settable<UploadState>({ sent: 0, size: content.size, state: 'running' });
  const tell = (changes: Partial<UploadState>) => progress.set({ ...progress.current, ...changes });
  let stopping = new AbortController();
  let goOn: (() => void) | undefined;
  const begin = async () => {
    const metadata = [`path ${base64(path)}`, ...(properties ? [`properties ${base64(JSON.stringify(properties))}`] : [])].join(',');
    const headers = { ...TUS, 'upload-length': String(content.size), 'upload-metadata': metadata };
    return (await transport.open('uploads.begin', {}, { headers })).headers.get('location') as string;
  };
  /** How much the service has (tus 1.0.0, HEAD). */
  const offsetAt = async (address: string) =>
    Number((await request(address, { method: 'HEAD', headers: TUS, signal: stopping.signal })).headers.get('upload-offset'));
  const address = resume ? Promise.resolve(resume) : repeated(begin, tell, waits);
  const send = async (): Promise<void> => {
    const to = await address;
    let sent = resume ? await repeated(() => offsetAt(to), tell, waits) : 0;
    for (let wait = 500; sent < content.size || sent === 0; ) {
      if (progress.current.state === 'paused') await new Promise<void>((resolve) => (goOn = resolve));
      tell({ sent, state: 'running' });
      try {
        const piece = content.slice(sent, sent + pieceBytes);
        const headers = { ...TUS, 'upload-offset': String(sent), 'content-type': OCTETS };
        const reply = await request(to, { method: 'PATCH', headers, body: piece, signal: stopping.signal });
        sent = Number(reply.headers.get('upload-offset'));
        wait = 500;
        if (content.size === 0) break;
      } catch (error) {
        if (stopping.signal.aborted) {
          if (progress.current.state !== 'paused') throw error;
          stopping = new AbortController();
          sent = await repeated(() => offsetAt(to), tell, waits);
          continue;
        }
        const { status } = error as { status?: number };
        if (status !== undefined && status < 500 && status !== 409 && status !== 423 && status !== 429) throw error;
        if (!waits) throw error;
        tell({ state: 'waiting' });
        await sleep(wait);
        wait = Math.min(LONGEST_WAIT_MS, wait * 2);
        sent = await repeated(() => offsetAt(to), tell, waits);
      }
    }
    tell({ sent: content.size, state: 'done' });
  };
  const done = send().catch((error: Error) => {
    tell({ state: 'failed', problem: error });
    throw error;
  });
  done.catch(() => undefined);
  return {
    progress,
    done,
    address,
    pause: () => {
      if (progress.current.state !== 'running' && progress.current.state !== 'waiting') return;
      tell({ state: 'paused' });
      stopping.abort();
    },
    resume: () => {
      if (progress.current.state !== 'paused') return;
      tell({ state: 'running' });
      goOn?.();
    },
    cancel: async () => {
      tell({ state: 'failed', problem: new Error('The upload was cancelled.') });
      stopping.abort();
      goOn?.();
      await request(await address, { method: 'DELETE', headers: TUS }).catch(() => undefined);
    },
  };
}

/** Until the service can be reached. */
async function repeated<T>(work: () => Promise<T>, tell: (changes: Partial<UploadState>) => void, waits: boolean): Promise<T> {
  for (let wait = 500; ; wait = Math.min(LONGEST_WAIT_MS, wait * 2)) {
    try {
      return await work();
    } catch (error) {
      if (!(error instanceof Unreachable) || !waits) throw error;
      tell({ state: 'waiting' });
      await sleep(wait);
    }
  }
}
