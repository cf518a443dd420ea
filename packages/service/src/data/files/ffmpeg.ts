/**
 * Debian's `ffmpeg`, held to limits: it reads what it is fed, or a file of ours, and neither networks nor playlists from outside; it runs
 * at a lower priority and within bounds of memory; and it ends with the service, whose end closes its input.
 */
import { type ChildProcessWithoutNullStreams, spawn } from 'node:child_process';
import { Problem } from '@orchard/contract';

const NICE = '10';
/** Bytes of address space of one process. */
const MOST_MEMORY = 4 * 2 ** 30;
/** What of its words are kept, for the reason why it failed. */
const MOST_WORDS = 4_000;
const STOP_MS = 5_000;

/** How the forms that may be sent are named to it; a form is never guessed, so that no playlist is taken for a video. */
export const FORMS: Readonly<Record<string, string>> = {
  'video/mp2t': 'mpegts',
  'video/mp4': 'mov',
  'audio/mp4': 'mov',
  'video/webm': 'matroska',
  'audio/webm': 'matroska',
};

/** Arguments before an input that is fed. */
export const fed = (form: string): string[] => ['-protocol_whitelist', 'pipe', '-f', form, '-i', 'pipe:0'];

export type Running = {
  child: ChildProcessWithoutNullStreams;
  /** Resolves with the exit code, and what it said last. */
  ended: Promise<{ code: number | null; words: string }>;
  /** Closes its input, so that it finishes; ends it if it does not. */
  finish: () => Promise<void>;
};

/** @throws {Problem} no-encoder */
export async function run(program: 'ffmpeg' | 'ffprobe', args: readonly string[], directory: string): Promise<Running> {
  const limits = ['-n', NICE, 'prlimit', `--as=${MOST_MEMORY}`, '--nofile=256', '--core=0', '--', program, '-hide_banner', '-v', 'error'];
  const child = spawn('nice', [...limits, ...(program === 'ffmpeg' ? ['-nostats', '-y'] : []), ...args], {
    cwd: directory,
    env: { PATH: process.env.PATH ?? '/usr/bin:/bin' },
    stdio: ['pipe', 'pipe', 'pipe'],
  });
  let words = '';
  child.stderr.on('data', (chunk: Buffer) => {
    words = (words + chunk.toString()).slice(-MOST_WORDS);
  });
  // It may end before it has read all that it is fed.
  child.stdin.on('error', () => undefined);
  await new Promise<void>((resolve, reject) => {
    child.once('spawn', resolve);
    child.once('error', (error: NodeJS.ErrnoException) => reject(error.code === 'ENOENT' ? new Problem('no-encoder') : error));
  });
  const ended = new Promise<{ code: number | null; words: string }>((resolve) => child.once('close', (code) => resolve({ code, words })));
  return {
    child,
    ended,
    finish: async () => {
      child.stdin.end();
      const impatient = setTimeout(() => child.kill('SIGKILL'), STOP_MS);
      await ended;
      clearTimeout(impatient);
    },
  };
}

/** Runs it to its end. @throws {Problem} no-encoder, broadcast-refused with its last words */
export async function runToEnd(args: readonly string[], directory: string): Promise<void> {
  const { ended, child } = await run('ffmpeg', args, directory);
  child.stdin.end();
  child.stdout.resume();
  const { code, words } = await ended;
  // 127 of `nice`, where there is no such program.
  if (code === 127) throw new Problem('no-encoder');
  if (code !== 0) throw new Problem('broadcast-refused', `It cannot be read as video or audio: ${lastLine(words)}.`);
}

export const lastLine = (words: string): string =>
  (words.trim().split('\n').at(-1) ?? '')
    .replace(/\[[^\]]*\]\s*/g, '')
    .replace(/0x[0-9a-f]+/g, '')
    .slice(0, 200) || 'the encoder said nothing';

export type Probed = { video: boolean; audio: boolean; width: number | null; height: number | null; durationMs: number | null };

/** What a beginning of a stream holds, or a file of ours. @returns null where it is neither video nor audio */
export async function probe(input: { form: string; bytes: Buffer } | { file: string }, directory: string): Promise<Probed | null> {
  const source = 'file' in input ? ['-protocol_whitelist', 'file', '-i', input.file] : ['-probesize', '2000000', ...fed(input.form)];
  const { child, ended } = await run('ffprobe', ['-show_streams', '-show_format', '-of', 'json', ...source], directory);
  const out: Buffer[] = [];
  child.stdout.on('data', (chunk: Buffer) => out.push(chunk));
  child.stdin.end('file' in input ? undefined : input.bytes);
  const { code } = await ended;
  if (code === 127) throw new Problem('no-encoder');
  return readProbe(Buffer.concat(out).toString());
}

type ProbeStream = { codec_type?: string; codec_name?: string; width?: number; height?: number };

function readProbe(text: string): Probed | null {
  let found: { streams?: ProbeStream[]; format?: { duration?: string } };
  try {
    found = JSON.parse(text);
  } catch {
    return null;
  }
  const known = (found.streams ?? []).filter(({ codec_name: codec }) => codec && codec !== 'unknown');
  const video = known.find(({ codec_type: type }) => type === 'video');
  const audio = known.find(({ codec_type: type }) => type === 'audio');
  if (!video && !audio) return null;
  const seconds = Number(found.format?.duration);
  return {
    video: Boolean(video),
    audio: Boolean(audio),
    width: video?.width ?? null,
    height: video?.height ?? null,
    durationMs: Number.isFinite(seconds) ? Math.round(seconds * 1000) : null,
  };
}
