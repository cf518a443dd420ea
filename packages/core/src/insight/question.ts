/** What all questions have in common, and how they read the days of a period one after another. */
import type { Asking } from '../filter/evaluate.js';
import type { EventFilter } from './mask.js';
import type { Segment } from './segment.js';

export type QuestionPeriod = {
  /** Milliseconds since 1970. */
  from: number;
  until: number;
};

/** What a question is told besides the events. */
export type QuestionGround = {
  asking: Asking;
  /** One more than the highest number of a person. */
  people: number;
  /** By number: when they were first seen; NaN for those who became another, and the erased. */
  firstSeen: Float64Array;
};

/** A question that reads segments in the order of their days, each once. */
export interface Scan<Answer> {
  add(segment: Segment): void;
  answer(): Answer;
}

/** An event of a question: its name (null for any), and what must hold for it. */
export type Wanted = { event: string | null; filter: EventFilter | null };
