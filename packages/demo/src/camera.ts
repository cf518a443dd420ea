/** The camera of the col: the encoder's test picture with the time in it, sent as a real device sends; and a recording from before. */
import { type ChildProcess, spawn } from 'node:child_process';
import { Readable } from 'node:stream';
import { type HttpClient, operations } from '@orchard/contract';
import { APP } from './scenario.js';

const params = { app: APP.name, environment: 'dev' };
const own = operations.managedBroadcasts;
const PICTURE = 'testsrc2=size=480x270:rate=10';
const SOUND = 'sine=frequency=220:sample_rate=48000,volume=0.02';
const AGAIN_MS = 15_000;

/** @param pace `live` as fast as a camera sends, or at once */
function film(seconds: number | null, pace: 'live' | 'at once'): ChildProcess | null {
  const real = pace === 'live' ? ['-re'] : [];
  const length = seconds === null ? [] : ['-t', String(seconds)];
  const inputs = [...real, '-f', 'lavfi', '-i', PICTURE, ...real, '-f', 'lavfi', '-i', SOUND];
  const codecs = [
    '-c:v',
    'libx264',
    '-preset',
    'ultrafast',
    '-g',
    '10',
    '-b:v',
    '250k',
    '-pix_fmt',
    'yuv420p',
    '-c:a',
    'aac',
    '-b:a',
    '48k',
  ];
  const child = spawn('nice', ['ffmpeg', '-v', 'error', ...inputs, ...length, ...codecs, '-f', 'mpegts', 'pipe:1'], {
    stdio: ['ignore', 'pipe', 'ignore'],
  });
  child.on('error', () => undefined);
  return child.stdout ? child : null;
}

async function send(address: string, camera: ChildProcess): Promise<void> {
  const body = Readable.toWeb(camera.stdout as Readable) as never;
  const init = { method: 'POST', headers: { 'content-type': 'video/mp2t' }, body, duplex: 'half' } as RequestInit;
  await fetch(address, init).catch(() => undefined);
  camera.kill('SIGKILL');
}

/** Yesterday's look at the ridge, kept as a file. */
export async function seedRecording(owner: HttpClient): Promise<void> {
  await owner.call(own.changeSettings, { params, body: { watch: 'TRUE' } });
  const { id, ingest } = await owner.call(own.begin, { params, body: { name: 'cameras/ridge', title: 'The ridge at noon', record: true } });
  const camera = film(8, 'at once');
  if (camera) await send(ingest.address, camera);
  await owner.call(own.end, { params: { ...params, id } });
}

/** Broadcasts until it is stopped, and begins again when it was ended. @returns a function that stops it */
export function startCamera(owner: HttpClient): () => void {
  let camera: ChildProcess | null = null;
  let stopped = false;
  const go = async () => {
    if (stopped) return;
    try {
      const { ingest } = await owner.call(own.begin, { params, body: { name: 'cameras/hollow-col', title: 'Hollow Col, looking north' } });
      camera = film(null, 'live');
      if (camera) await send(ingest.address, camera);
    } catch {
      // The service is going down, or has no encoder: it is tried again.
    }
    if (!stopped) setTimeout(go, AGAIN_MS).unref();
  };
  void go();
  return () => {
    stopped = true;
    camera?.kill('SIGKILL');
  };
}
