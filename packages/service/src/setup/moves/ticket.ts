/** The ticket of another installation, kept while the move is under way. */
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Parts } from './parts.js';
import type { MoveRow } from './store.js';

const contextOf = (move: string): string => `move:${move}`;

export const sealTicket = ({ secretKey }: Pick<Parts, 'secretKey'>, move: string, ticket: string): string =>
  seal(secretKey, contextOf(move), ticket);

export const openTicket = ({ secretKey }: Pick<Parts, 'secretKey'>, { id, sealedTicket }: MoveRow): string =>
  unseal(secretKey, contextOf(id), sealedTicket ?? '').toString();
