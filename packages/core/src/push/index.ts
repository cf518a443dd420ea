export * from './encryption.js';
export * from './vapid.js';
