export { APP, HIKER, OWNER } from './scenario.js';
