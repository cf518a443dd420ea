/** Hourly work on collections. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { SchemaChanges } from './schemaChanges.js';
import { noteSizes } from './sizeStore.js';
import { tellSlowPatterns } from './patterns.js';
import { forgetAnswers } from '../../platform/http/idempotency.js';

/** How long the change feed, and with it the history of records, is kept. */
const FEED_MS = 30 * 86_400_000;
const ANSWERS_MS = 86_400_000;

export async function tendCollections(parts: Parts, environment: Environment): Promise<void> {
  await parts.feed.endBefore(environment, new Date(parts.now() - FEED_MS));
  await forgetAnswers(environment, new Date(parts.now() - ANSWERS_MS));
  await new SchemaChanges(parts).purge(environment);
  await tellSlowPatterns(parts, environment);
  await noteSizes(parts, environment);
}
