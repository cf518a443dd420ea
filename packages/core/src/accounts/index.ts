export * from './kinds.js';
export * from './mailAddress.js';
export * from './mails.js';
export * from './passwordHashes.js';
export * from './userFields.js';
export * from './signInTexts.js';
export * from './roles.js';
