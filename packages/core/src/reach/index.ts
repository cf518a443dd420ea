export * from './answers.js';
export * from './content.js';
export * from './dueTimes.js';
export * from './fileKind.js';
export * from './mapping.js';
export * from './phone.js';
export * from './sms.js';
export * from './template.js';
