/** What this room stands on. */
import type { Parts as QuestionParts } from '../questions/parts.js';
import type { QuestionsOffer } from '../questions/capability.js';

export type Parts = QuestionParts & QuestionsOffer;
