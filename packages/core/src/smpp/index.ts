export * from './message.js';
export * from './pdu.js';
