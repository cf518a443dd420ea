export * from './difference.js';
export * from './madeUp.js';
export * from './templates.js';
export * from './words.js';
