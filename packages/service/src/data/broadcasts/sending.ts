/** What arrives of broadcasts: each is fed to one encoder at a time, on the instance that its device reached. */
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { Problem } from '@orchard/contract';
import type { Call, Environment } from '../../platform/call.js';
import { Encoding } from './encoding.js';
import { FORMS } from '../files/ffmpeg.js';
import type { Parts } from './parts.js';
import { keepRecording } from './recording.js';
import { broadcastSettings } from './settings.js';
import { type BroadcastRow, changeOpen, findBroadcast, noteRecording } from './store.js';

/** How often how it fares is noted, and over how long its bit rate is measured. */
const NOTE_MS = 1_000;
const RATE_MS = 5_000;
const MINUTE_MS = 60_000;
const HANG_UP_MS = 3_000;
/** A piece is held until it is whole: far more than a MediaRecorder gives for some seconds. */
const MOST_PIECE_BYTES = 32 * 1024 * 1024;

/** One connection of a device, or one row of pieces. */
type Session = {
  environment: Environment;
  row: BroadcastRow;
  encoding: Encoding;
  nextPiece: number;
  bytes: number;
  notedAt: number;
  heardAt: number;
  /** Arrivals of the last seconds. */
  arrivals: { at: number; bytes: number }[];
  /** What is written one after another. */
  last: Promise<unknown>;
  /** Ends the connection that it came by. */
  cut: () => void;
};

export class Sending {
  readonly #sessions = new Map<string, Session>();
  /** Broadcasts of which this instance awaits something, and since when. */
  readonly #awaited = new Map<string, { environment: Environment; row: BroadcastRow; since: number }>();

  constructor(private readonly parts: Parts) {}

  directoryOf({ id }: Pick<Environment, 'id'>, broadcastId: string): string {
    return join(this.parts.config.filesDirectory, id, 'broadcasts', broadcastId);
  }

  /** A device is to send, or to send again. */
  await(environment: Environment, row: BroadcastRow): void {
    this.#awaited.set(row.id, { environment, row, since: this.parts.now() });
  }

  /** Ends broadcasts of which nothing arrives. */
  async endSilent(): Promise<void> {
    for (const { environment, row, since } of [...this.#awaited.values()]) {
      const { silentSeconds } = await broadcastSettings.read(environment);
      if (this.parts.now() - since >= silentSeconds * 1_000) await this.endAsSilent(environment, row);
    }
    // A line may be open, and carry nothing.
    for (const session of [...this.#sessions.values()]) {
      const { silentSeconds } = await broadcastSettings.read(session.environment);
      if (this.parts.now() - session.heardAt >= silentSeconds * 1_000) await this.endAsSilent(session.environment, session.row);
    }
  }

  async endAsSilent(environment: Environment, row: BroadcastRow): Promise<void> {
    const { silentSeconds } = await broadcastSettings.read(environment);
    await this.end(environment, row, `Nothing arrived for ${silentSeconds} seconds.`);
  }

  /** Takes one request for as long as it goes on. @throws {Problem} broadcast-ended, broadcast-refused, no-encoder */
  async stream(call: Call, environment: Environment, row: BroadcastRow): Promise<BroadcastRow> {
    const session = await this.#begin(environment, row, formOf(call), () => call.request.destroy());
    try {
      // The connection stays for the answer, also when this stops reading.
      for await (const chunk of call.request.iterator({ destroyOnReturn: false }) as AsyncIterable<Buffer>)
        await this.#take(session, chunk);
    } catch (error) {
      // A line that broke is no failure: the device comes back, and the broadcast goes on.
      if (error instanceof Problem) {
        hangUpSoon(call);
        throw await this.#refuse(session, error);
      }
    }
    await this.#pause(session);
    return (await findBroadcast(environment, row.id)) ?? row;
  }

  /** Takes a numbered piece. @throws {Problem} piece-missing, broadcast-ended, broadcast-refused */
  async piece(call: Call, environment: Environment, row: BroadcastRow, number: number): Promise<BroadcastRow & { nextPiece: number }> {
    const known = this.#sessions.get(row.id);
    const session =
      number === 0 && (!known || known.nextPiece > 1) ? await this.#begin(environment, row, formOf(call), () => undefined) : known;
    if (!session)
      throw new Problem('piece-missing', 'Nothing of this broadcast is here yet. Send piece 0, with which a MediaRecorder begins.');
    if (number > session.nextPiece) throw new Problem('piece-missing', `Piece ${session.nextPiece} is awaited; piece ${number} came.`);
    const bytes = await wholePiece(call);
    // A piece that was sent again is there already.
    if (number === session.nextPiece) {
      session.nextPiece++;
      session.last = session.last.then(() => this.#take(session, bytes));
      try {
        await session.last;
      } catch (error) {
        throw error instanceof Problem ? await this.#refuse(session, error) : error;
      }
    }
    return { ...((await findBroadcast(environment, row.id)) ?? row), nextPiece: session.nextPiece };
  }

  async #begin(environment: Environment, row: BroadcastRow, form: string, cut: () => void): Promise<Session> {
    const before = this.#sessions.get(row.id);
    if (before) await this.#pause(before);
    const now = this.parts.now();
    const runs = ((await findBroadcast(environment, row.id))?.runs ?? row.runs) + 1;
    if (!(await changeOpen(environment, row.id, { runs, lastAt: new Date(now), trouble: null }))) throw new Problem('broadcast-ended');
    const encoding = new Encoding(this.directoryOf(environment, row.id), runs, form);
    this.#awaited.delete(row.id);
    const session: Session = {
      ...{ environment, row, encoding, cut },
      ...{ nextPiece: 0, bytes: 0, notedAt: 0, heardAt: now, arrivals: [], last: Promise.resolve() },
    };
    this.#sessions.set(row.id, session);
    return session;
  }

  async #take(session: Session, chunk: Buffer): Promise<void> {
    if (this.#sessions.get(session.row.id) !== session)
      throw new Problem('broadcast-ended', 'The broadcast has ended, or its device connected anew.');
    const at = this.parts.now();
    session.bytes += chunk.length;
    session.heardAt = at;
    session.arrivals.push({ at, bytes: chunk.length });
    session.arrivals = session.arrivals.filter((one) => one.at > at - RATE_MS);
    await session.encoding.write(chunk);
    if (at - session.notedAt >= NOTE_MS) await this.#note(session, at);
  }

  async #note(session: Session, at: number): Promise<void> {
    session.notedAt = at;
    const { environment, row, arrivals } = session;
    const { mostKbits, mostMinutes } = await broadcastSettings.read(environment);
    const first = arrivals[0]?.at ?? at;
    const spanMs = Math.max(NOTE_MS, at - first);
    const kbits = Math.round((arrivals.reduce((sum, { bytes }) => sum + bytes, 0) * 8) / spanMs);
    const facts = factsOf(session, at);
    const open = await changeOpen(environment, row.id, {
      ...{ kbits, bytes: session.bytes, lastAt: new Date(at) },
      ...(facts ? { state: 'live' as const, ...facts } : {}),
    });
    if (!open) throw new Problem('broadcast-ended');
    if (at - first >= RATE_MS / 2 && kbits > mostKbits)
      throw new Problem(
        'broadcast-refused',
        `It takes ${kbits.toLocaleString('en')} kbit/s; a broadcast has at most ${mostKbits.toLocaleString('en')}.`,
      );
    if (row.startedAt && at - row.startedAt.getTime() > mostMinutes * MINUTE_MS)
      throw new Problem('broadcast-refused', `A broadcast lasts at most ${mostMinutes} minutes.`);
  }

  /** Its device has gone; it may come back. */
  async #pause(session: Session): Promise<void> {
    if (this.#sessions.get(session.row.id) === session) this.#sessions.delete(session.row.id);
    try {
      await session.encoding.end();
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      await changeOpen(session.environment, session.row.id, { trouble: error.detail });
    }
    const at = this.parts.now();
    const isOpen = await changeOpen(session.environment, session.row.id, {
      ...{ state: 'waiting', kbits: 0, bytes: session.bytes, lastAt: new Date(at) },
      ...factsOf(session, at),
    });
    if (isOpen) this.await(session.environment, session.row);
  }

  async #refuse(session: Session, problem: Problem): Promise<Problem> {
    this.#sessions.delete(session.row.id);
    session.encoding.kill();
    if (problem.problem === 'broadcast-refused') await this.end(session.environment, session.row, problem.detail);
    return problem;
  }

  /** Ends a broadcast, and keeps its recording. */
  async end(environment: Environment, row: BroadcastRow, trouble: string | null): Promise<void> {
    const session = this.#sessions.get(row.id);
    this.#sessions.delete(row.id);
    this.#awaited.delete(row.id);
    session?.cut();
    await session?.encoding.end().catch(() => undefined);
    const ended = await changeOpen(environment, row.id, {
      state: 'ended',
      kbits: 0,
      endedAt: new Date(this.parts.now()),
      ...(trouble === null ? {} : { trouble }),
    });
    if (!ended || !row.record) return;
    try {
      const recording = await keepRecording(this.parts, environment, row, this.directoryOf(environment, row.id));
      await noteRecording(environment, row.id, recording, null);
    } catch (error) {
      this.parts.log.error({ err: error, broadcast: row.id }, 'a recording could not be kept');
      await noteRecording(environment, row.id, null, `The recording could not be kept: ${(error as Error).message.slice(0, 300)}`);
    }
  }

  forget(environment: Pick<Environment, 'id'>, broadcastId: string): Promise<void> {
    return rm(this.directoryOf(environment, broadcastId), { recursive: true, force: true });
  }

  /** No encoder outlives the service. */
  async stop(): Promise<void> {
    const all = [...this.#sessions.values()];
    this.#sessions.clear();
    for (const { cut } of all) cut();
    await Promise.all(all.map((session) => this.#pause(session).catch(() => session.encoding.kill())));
  }
}

/** What is known of a stream once its beginning was looked at. */
function factsOf({ encoding: { probed }, row }: Session, at: number) {
  if (!probed) return null;
  row.startedAt ??= new Date(at);
  const { video, audio, width, height } = probed;
  return { video, audio, width, height, startedAt: row.startedAt };
}

function tooLong(call: Call): Problem {
  hangUpSoon(call);
  return new Problem('broadcast-refused', `A piece has at most ${MOST_PIECE_BYTES.toLocaleString('en')} bytes. Send shorter ones.`);
}

/** @throws {Problem} broadcast-refused */
async function wholePiece(call: Call): Promise<Buffer> {
  const chunks: Buffer[] = [];
  if (Number(call.headers['content-length'] ?? 0) > MOST_PIECE_BYTES) throw tooLong(call);
  let size = 0;
  for await (const chunk of call.request.iterator({ destroyOnReturn: false }) as AsyncIterable<Buffer>) {
    size += chunk.length;
    if (size > MOST_PIECE_BYTES) throw tooLong(call);
    chunks.push(chunk);
  }
  return Buffer.concat(chunks);
}

/** A device that sends on, whatever it is told, does not get to. */
function hangUpSoon({ request, response }: Call): void {
  response.setHeader('Connection', 'close');
  setTimeout(() => request.destroy(), HANG_UP_MS).unref();
}

/** @throws {Problem} broadcast-refused */
function formOf({ headers }: Pick<Call, 'headers'>): string {
  const type = (headers['content-type'] ?? 'video/mp2t').split(';')[0]?.trim().toLowerCase() as string;
  const form = FORMS[type] ?? (type === 'application/octet-stream' ? FORMS['video/mp2t'] : undefined);
  if (form) return form;
  throw new Problem('broadcast-refused', `Content-Type is ${type}; a broadcast comes as ${Object.keys(FORMS).join(', ')}.`);
}
