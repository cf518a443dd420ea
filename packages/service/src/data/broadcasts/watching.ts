/** Playlists and segments for those who may watch. */
import { readFile, stat } from 'node:fs/promises';
import { join } from 'node:path';
import { Problem } from '@orchard/contract';
import { writeHlsPlaylist } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import send from 'send';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Call, Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { runsOf } from './recording.js';
import type { Sending } from './sending.js';
import { type BroadcastRow, findBroadcast, noteViewer } from './store.js';

/** How long an address to watch at holds. */
const VIEW_MS = 12 * 3_600_000;
/** Who has read no playlist for this long watches no more. */
const PRESENT_MS = 15_000;
const NOTE_MS = 5_000;
/** How many segments a live playlist lists: as far as one can go back. */
const WINDOW = 60;
const PURPOSE = 'a view of a broadcast';
const PLAYLIST = /^([01])\.m3u8$/;
const SEGMENT = /^\d{1,6}\/(init[01]|s[01]_\d{5,7})\.(mp4|m4s)$/;

type View = { broadcast: string; viewer: string; userId: string | null; until: number };

export class Watching {
  readonly #noted = new LRUCache<string, true>({ max: 50_000, ttl: NOTE_MS });
  /** Of a broadcast that was just looked up: segments follow each other fast. */
  readonly #rows = new LRUCache<string, { row: BroadcastRow | null }>({ max: 2_000, ttl: 500 });

  constructor(
    private readonly parts: Parts,
    private readonly sending: Sending,
  ) {}

  open(environment: Environment, row: BroadcastRow, userId: string | null): { address: string; until: string } {
    const until = this.parts.now() + VIEW_MS;
    const view: View = { broadcast: row.id, viewer: this.parts.newId(), userId, until };
    const secret = seal(environment.keys.data, PURPOSE, JSON.stringify(view));
    const address = `${this.parts.address()}/broadcasts/${environment.app}/${environment.name}/watch/${secret}/main.m3u8`;
    return { address, until: new Date(until).toISOString() };
  }

  /** @throws {Problem} link-refused, not-found */
  async answer(call: Call, environment: Environment, secret: string, path: string): Promise<'streaming'> {
    const view = this.#read(environment, secret);
    const row = await this.#row(environment, view.broadcast);
    if (!row) throw new Problem('not-found', 'The broadcast is gone.');
    const directory = this.sending.directoryOf(environment, row.id);
    const { response } = call;
    // The address is the right to watch, whichever page plays it.
    response.setHeader('Access-Control-Allow-Origin', '*');
    if (SEGMENT.test(path)) return this.#segment(call, join(directory, path));
    await this.#note(environment, view);
    const text = await this.#playlist(directory, row, path);
    if (text === null)
      throw new Problem('not-found', 'Nothing of this broadcast can be shown yet. Ask again in a second.', { retryAfterS: 1 });
    response.setHeader('Content-Type', 'application/vnd.apple.mpegurl');
    response.setHeader('Cache-Control', 'no-store');
    response.end(text);
    return 'streaming';
  }

  #read(environment: Environment, secret: string): View {
    try {
      const view = JSON.parse(unseal(environment.keys.data, PURPOSE, secret).toString()) as View;
      if (view.until > this.parts.now()) return view;
    } catch {
      // Of another environment, or mistyped.
    }
    throw new Problem('link-refused', 'This address to watch at is over, or mistyped. Ask for a new one.');
  }

  async #row(environment: Environment, id: string): Promise<BroadcastRow | null> {
    const known = this.#rows.get(id);
    if (known) return known.row;
    const row = await findBroadcast(environment, id);
    this.#rows.set(id, { row });
    return row;
  }

  async #note(environment: Environment, { broadcast, viewer, userId }: View): Promise<void> {
    if (this.#noted.has(viewer)) return;
    this.#noted.set(viewer, true);
    const now = this.parts.now();
    await noteViewer(environment, { broadcastId: broadcast, viewer, userId }, new Date(now), new Date(now + PRESENT_MS));
  }

  async #playlist(directory: string, row: BroadcastRow, path: string): Promise<string | null> {
    if (path === 'main.m3u8') {
      for (let run = row.runs; run > 0; run--) {
        const text = await readFile(join(directory, String(run), 'main.m3u8'), 'utf8').catch(() => null);
        if (text) return text;
      }
      return null;
    }
    const quality = PLAYLIST.exec(path)?.[1];
    if (quality === undefined) return null;
    const runs = await runsOf(directory, row.runs, Number(quality));
    return runs.length === 0 ? null : writeHlsPlaylist(runs, { ended: row.state === 'ended', window: WINDOW });
  }

  async #segment({ request, response }: Call, file: string): Promise<'streaming'> {
    if (!(await stat(file).catch(() => null))) throw new Problem('not-found', 'This segment is not there any more.');
    response.setHeader('Content-Type', 'video/mp4');
    response.setHeader('Cache-Control', 'private, max-age=3600, immutable');
    return new Promise((resolve, reject) => {
      const stream = send(request, encodeURI(file), {
        etag: false,
        lastModified: false,
        cacheControl: false,
        dotfiles: 'allow',
        index: false,
      });
      stream.on('error', reject);
      response.once('close', () => resolve('streaming'));
      stream.pipe(response);
    });
  }
}
