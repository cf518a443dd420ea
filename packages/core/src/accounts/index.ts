export * from './kinds.js';
export * from './mails.js';
