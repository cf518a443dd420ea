/** The system database has a chain of its own, of the same shape. */
export { auditHeadTable, auditTable } from './tables.js';
