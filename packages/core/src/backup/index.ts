export * from './keeping.js';
export * from './parts.js';
