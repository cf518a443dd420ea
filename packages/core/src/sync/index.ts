export * from './merge.js';
export * from './ranges.js';
