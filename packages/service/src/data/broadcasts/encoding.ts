/** One run of the encoder: what a device sends becomes playlists and segments of HLS (RFC 8216), in two qualities, or as audio alone. */
import { once } from 'node:events';
import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { Problem } from '@orchard/contract';
import { fed, lastLine, probe, type Probed, run, type Running } from '../files/ffmpeg.js';

/** A segment's length: what is shown is two or three of them behind what is seen. */
const SEGMENT_S = 1;
/** How much of a beginning is looked at before the encoder starts. */
const LEAST_TO_PROBE = 48_000;
const MOST_TO_PROBE = 2_000_000;
const [HIGH, LOW] = [
  { height: 720, kbits: 1_800 },
  { height: 360, kbits: 600 },
] as const;
const AUDIO_KBITS = 96;

/** @param of what the stream holds @returns arguments after the input, which write into the working directory */
export function outputArguments({ video, audio }: Pick<Probed, 'video' | 'audio'>): string[] {
  const qualities = video ? [HIGH, LOW] : [];
  const scaled = qualities.map(({ height }, i) => `[in${i}]scale=w=-2:h='trunc(min(${height},ih)/2)*2'[v${i}]`);
  const filter = video ? ['-filter_complex', `[0:v:0]split=2[in0][in1];${scaled.join(';')}`] : [];
  const outputs = video ? qualities.length : 1;
  const maps = Array.from({ length: outputs }, (_, i) => [
    ...(video ? ['-map', `[v${i}]`] : []),
    ...(audio ? ['-map', '0:a:0'] : []),
  ]).flat();
  const rates = qualities.flatMap(({ kbits }, i) => [
    `-b:v:${i}`,
    `${kbits}k`,
    `-maxrate:v:${i}`,
    `${kbits}k`,
    `-bufsize:v:${i}`,
    `${kbits}k`,
  ]);
  const variants = Array.from({ length: outputs }, (_, i) => [...(video ? [`v:${i}`] : []), ...(audio ? [`a:${i}`] : [])].join(','));
  return [
    ...filter,
    ...maps,
    ...(video
      ? [
          ...[
            '-c:v',
            'libx264',
            '-preset',
            'superfast',
            '-tune',
            'zerolatency',
            '-profile:v',
            'main',
            '-pix_fmt',
            'yuv420p',
            '-sc_threshold',
            '0',
          ],
          ...['-force_key_frames', `expr:gte(t,n_forced*${SEGMENT_S})`, '-threads', '2'],
          ...rates,
        ]
      : []),
    ...(audio ? ['-c:a', 'aac', '-b:a', `${AUDIO_KBITS}k`, '-ac', '2', '-ar', '48000'] : []),
    ...['-f', 'hls', '-hls_time', String(SEGMENT_S), '-hls_list_size', '0', '-hls_segment_type', 'fmp4'],
    ...['-hls_flags', 'independent_segments+temp_file', '-hls_fmp4_init_filename', 'init%v.mp4', '-hls_segment_filename', 's%v_%05d.m4s'],
    ...['-master_pl_name', 'main.m3u8', '-var_stream_map', variants.join(' '), '%v.m3u8'],
  ];
}

export class Encoding {
  #running: Running | null = null;
  #beginning: Buffer[] = [];
  #held = 0;
  #done = false;
  readonly directory: string;
  probed: Probed | null = null;

  /** @param form how the stream's form is named to the encoder @param run its number within the broadcast, from 1 on */
  constructor(
    broadcastDirectory: string,
    readonly run: number,
    private readonly form: string,
  ) {
    this.directory = join(broadcastDirectory, String(run));
  }

  /**
   * Takes a part of the stream; waits while the encoder has enough.
   * @throws {Problem} broadcast-refused, for what is no video or audio, or breaks; no-encoder
   */
  async write(chunk: Buffer): Promise<void> {
    if (this.#running) return this.#feed(chunk);
    this.#beginning.push(chunk);
    this.#held += chunk.length;
    if (this.#held >= LEAST_TO_PROBE) await this.#start(false);
  }

  /** The stream has ended: what was held back is shown, too. @throws {Problem} broadcast-refused */
  async end(): Promise<void> {
    if (this.#done) return;
    this.#done = true;
    if (!this.#running && this.#held > 0) await this.#start(true);
    await this.#running?.finish();
  }

  /** Ends it without care for what is still to come. */
  kill(): void {
    this.#done = true;
    this.#running?.child.kill('SIGKILL');
  }

  async #start(isWhole: boolean): Promise<void> {
    await mkdir(this.directory, { recursive: true });
    const bytes = Buffer.concat(this.#beginning);
    const probed = await probe({ form: this.form, bytes }, this.directory);
    if (!probed && (isWhole || this.#held >= MOST_TO_PROBE))
      throw new Problem('broadcast-refused', 'What arrives is neither video nor audio in the form that its Content-Type names.');
    // A picture's size may stand further on.
    if (!probed || (probed.video && !probed.width && !isWhole && this.#held < MOST_TO_PROBE)) return;
    this.probed = probed;
    this.#running = await run('ffmpeg', [...fed(this.form), ...outputArguments(probed)], this.directory);
    this.#running.child.stdout.resume();
    this.#beginning = [];
    await this.#feed(bytes);
  }

  async #feed(chunk: Buffer): Promise<void> {
    const { child, ended } = this.#running as Running;
    if (child.exitCode !== null || child.stdin.destroyed) {
      const { words } = await ended;
      throw new Problem('broadcast-refused', `The stream broke: ${lastLine(words)}.`);
    }
    if (child.stdin.write(chunk)) return;
    await Promise.race([once(child.stdin, 'drain'), ended]);
  }
}
