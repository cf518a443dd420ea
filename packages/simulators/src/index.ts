export * from './handset.js';
export * from './pushNetwork.js';
export * from './wall.js';
