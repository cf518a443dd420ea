/** The open streams of a channel on this instance: one reader for all. */
import type { ChannelMessage } from '@orchard/contract';
import { apart } from '../../platform/database/connection.js';
import { isDatabaseAway } from '../../platform/database/errors.js';
import { readInPieces } from '../../platform/database/pieces.js';
import type { Environment } from '../../platform/call.js';
import { type EventStream, eventText } from '../../platform/live/eventStream.js';
import type { Parts } from './parts.js';
import { forApps } from './sender.js';
import { PRESENT_MS, type PresenceStore } from '../presence/store.js';
import type { ChannelStore } from './store.js';

/** How soon messages published at another instance are seen. */
const POLL_MS = 500;
const PRESENCE_MS = 2_000;
const MOST_AT_ONCE = 500;
type Listener = { stream: EventStream; id: string; after: number };

export class ChannelHub {
  readonly #listeners = new Set<Listener>();
  #timer: NodeJS.Timeout | null = null;
  #reading = false;
  #again = false;
  #stayedAt = 0;
  #presenceAt = 0;
  #presence = '';
  readonly #stopListening: () => void;

  constructor(
    private readonly parts: Parts,
    private readonly store: ChannelStore,
    private readonly presence: PresenceStore,
    private readonly environment: Environment,
    private readonly channel: string,
    private readonly onEmpty: () => void,
  ) {
    this.#stopListening = parts.changes.listen(environment.id, () => void apart(() => this.#read()));
    this.#timer = apart(() => setInterval(() => void this.#read(), POLL_MS));
  }

  add(listener: Listener): void {
    this.#listeners.add(listener);
    // Every listener gets the presence event, including the one who joined.
    this.#presence = '';
    this.#presenceAt = 0;
    void this.#read();
  }

  remove(listener: Listener): void {
    this.#listeners.delete(listener);
    this.#presenceAt = 0;
    if (this.#listeners.size > 0) return;
    if (this.#timer) clearInterval(this.#timer);
    this.#stopListening();
    this.onEmpty();
  }

  async #read(): Promise<void> {
    this.#again = this.#reading;
    if (this.#reading || this.#listeners.size === 0) return;
    this.#reading = true;
    try {
      do {
        this.#again = false;
        await this.#deliver();
        await this.#tellPresence();
      } while (this.#again);
    } catch (error) {
      if (!isDatabaseAway(error)) this.parts.log.error({ err: error, channel: this.channel }, 'a channel could not be read');
    } finally {
      this.#reading = false;
    }
  }

  /** Reads from the position of the slowest listener; each gets what it has not received. */
  async #deliver(): Promise<void> {
    const ready = [...this.#listeners].filter(({ stream }) => !stream.cutIfStuck() && stream.hasRoom);
    if (ready.length === 0) return;
    const from = Math.min(...ready.map(({ after }) => after));
    const messages = await readInPieces(MOST_AT_ONCE, (most) => this.store.after(this.environment, this.channel, from, most));
    for (const message of messages) {
      const text = messageText(message);
      for (const listener of ready) {
        if (listener.after >= message.number || !listener.stream.hasRoom) continue;
        listener.after = message.number;
        listener.stream.send(text);
      }
    }
    // A full page, or fewer because they are large: there may be more.
    if (messages.length > 0) this.#again = true;
  }

  async #tellPresence(): Promise<void> {
    const now = this.parts.now();
    if (now - this.#stayedAt > PRESENT_MS / 3) {
      this.#stayedAt = now;
      await this.presence.stay(
        this.environment,
        [...this.#listeners].map(({ id }) => id),
        now,
      );
    }
    if (now - this.#presenceAt < PRESENCE_MS) return;
    this.#presenceAt = now;
    const text = JSON.stringify(await this.presence.read(this.environment, this.channel, now));
    if (text === this.#presence) return;
    this.#presence = text;
    // Without an id: the reader's place in the messages stays where it is.
    for (const { stream } of this.#listeners) stream.send(`event: presence\ndata: ${text}\n\n`);
  }
}

export const messageText = (message: ChannelMessage): string => eventText('message', message.number, JSON.stringify(forApps(message)));
