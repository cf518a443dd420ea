/** Recordings: a broadcast as one file, cut out of it, and what is forgotten by age. */
import { createReadStream } from 'node:fs';
import { readFile, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { finished } from 'node:stream/promises';
import { Problem } from '@orchard/contract';
import { type FilePath, type HlsRun, readFilePath, readHlsRun } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import { fed, lastLine, run, runToEnd } from '../files/ffmpeg.js';
import type { Parts } from './parts.js';
import { type BroadcastRow, findBroadcast } from './store.js';

/** Where recordings are among the files. */
export const RECORDINGS = 'recordings';
/** The best quality. */
const BEST = 0;

/** What the runs of a broadcast wrote in one quality, in order; runs that wrote nothing are left out. */
export async function runsOf(directory: string, runs: number, quality: number): Promise<HlsRun[]> {
  const found: HlsRun[] = [];
  for (let number = 1; number <= runs; number++) {
    const text = await readFile(join(directory, String(number), `${quality}.m3u8`), 'utf8').catch(() => '');
    const read = readHlsRun(text, `${number}/`);
    if (read && read.segments.length > 0) found.push(read);
  }
  return found;
}

/** Keeps a broadcast as a file. @returns its path @throws {Problem} where nothing of it is there */
export async function keepRecording(parts: Parts, environment: Environment, row: BroadcastRow, directory: string): Promise<string> {
  const current = await findBroadcast(environment, row.id);
  const runs = await runsOf(directory, current?.runs ?? row.runs, BEST);
  if (runs.length === 0) throw new Problem('not-found', 'Nothing was received.');
  const to = join(directory, 'recording.mp4');
  await joined(runs, directory, to);
  const at = (row.startedAt ?? row.createdAt).toISOString().slice(0, 16).replace(/[:]/g, '');
  const path = readFilePath(`${RECORDINGS}/${row.name}/${at}.mp4`);
  const author: Author = { userId: null, roles: [], fields: {}, trusted: true, told: true, by: row.by };
  const kept = await store(parts, environment, author, path, to, row.ownerId);
  return kept.path;
}

/** The segments of all runs, one after another, as one MP4: each run as a transport stream, which may begin anew in its middle. */
async function joined(runs: readonly HlsRun[], directory: string, to: string): Promise<void> {
  const whole = await run(
    'ffmpeg',
    [...fed('mpegts'), '-c', 'copy', '-bsf:a', 'aac_adtstoasc', '-movflags', '+faststart', '-f', 'mp4', to],
    directory,
  );
  whole.child.stdout.resume();
  for (const one of runs) {
    const part = await run('ffmpeg', [...fed('mov'), '-c', 'copy', '-f', 'mpegts', 'pipe:1'], directory);
    part.child.stdout.pipe(whole.child.stdin, { end: false });
    for (const name of [one.map, ...one.segments.map(({ uri }) => uri)]) {
      const stream = createReadStream(join(directory, name));
      stream.pipe(part.child.stdin, { end: false });
      await finished(stream);
    }
    part.child.stdin.end();
    await part.ended;
  }
  await whole.finish();
  const { code, words } = await whole.ended;
  if (code !== 0) throw new Problem('broadcast-refused', `The recording could not be joined: ${lastLine(words)}.`);
}

async function store(parts: Parts, environment: Environment, author: Author, path: FilePath, file: string, ownerId: string | null) {
  const limit = await parts.contents.limitOf(environment);
  const arrived = await parts.contents.bytes.take(environment.id, createReadStream(file), limit);
  await rm(file, { force: true });
  const wish = { properties: {}, expected: {}, ...(author.trusted ? { ownerId } : {}) };
  return (await parts.fileStoring.store({ environment, author }, path, arrived, wish)).file;
}

/** Cuts a part out of a recording. @throws {Problem} invalid-input, broadcast-refused, and those of storing */
export async function cutRecording(
  parts: Parts,
  environment: Environment,
  author: Author,
  { from, fromMs, toMs, to }: { from: string; fromMs: number; toMs: number; to: FilePath },
) {
  if (toMs <= fromMs)
    throw new Problem('invalid-input', '`toMs` lies before `fromMs`.', {
      fields: [{ path: 'body.toMs', problem: 'It lies before `fromMs`.', expected: 'a later moment' }],
    });
  const row = await parts.fileReading.readable(environment, author, from);
  const place = { environment, author };
  await parts.fileStoring.demandBefore(place, to, { properties: {}, expected: {}, replace: false });
  if (!/^(video|audio)\//.test(row.type)) throw new Problem('invalid-input', `${from} is of type ${row.type}, neither video nor audio.`);
  const scratch = `${await parts.contents.bytes.scratch(environment.id)}.mp4`;
  try {
    const source = [
      '-protocol_whitelist',
      'file',
      '-ss',
      String(fromMs / 1000),
      '-to',
      String(toMs / 1000),
      '-i',
      parts.contents.bytes.place(environment.id, row.digest),
    ];
    await runToEnd([...source, '-c', 'copy', '-avoid_negative_ts', 'make_zero', '-movflags', '+faststart', '-f', 'mp4', scratch], '/');
    return await store(parts, environment, author, to, scratch, row.ownerId);
  } finally {
    await rm(scratch, { force: true });
  }
}
