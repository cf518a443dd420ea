export * from './message.js';
export * from './pdu.js';
export * from './writer.js';
