/** Tickets: what a sign-in has shown so far, carried by the client for some minutes, sealed. */
import type { JsonObject } from '@orchard/core';
import { seal, unseal } from './secrets.js';

const LIFE_MS = 5 * 60_000;

/** @param purpose names what it is for; it opens for nothing else */
export const writeTicket = (key: Buffer, purpose: string, content: JsonObject, now: number): string =>
  seal(key, purpose, JSON.stringify({ content, until: now + LIFE_MS }));

/** What a ticket says; null for one that is too old, or was written elsewhere. */
export function readTicket<Content extends JsonObject>(key: Buffer, purpose: string, ticket: string, now: number): Content | null {
  try {
    const { content, until } = JSON.parse(unseal(key, purpose, ticket).toString()) as { content: Content; until: number };
    return until > now ? content : null;
  } catch {
    return null;
  }
}
