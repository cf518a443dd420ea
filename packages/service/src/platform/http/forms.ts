/** Bodies of forms (application/x-www-form-urlencoded), where an open protocol sends them. */
import { promisify } from 'node:util';
import { Problem } from '@orchard/contract';
import express, { type Request, type Response } from 'express';
import type { Call } from '../call.js';

type Reader = (request: Request, response: Response) => Promise<void>;
const readerUpTo = (limit: string) => promisify(express.urlencoded({ extended: false, limit })) as Reader;
const SMALL = readerUpTo('20kb');
/** A signed and encrypted assertion with its certificates takes more room. */
const LARGE = readerUpTo('500kb');

export type Form = Record<string, string | undefined>;

/**
 * The fields of a form, each once. They hold passwords, codes and tokens: nothing that records calls finds them afterwards.
 * @throws {Problem} body-too-large, unsupported-media-type, invalid-input
 */
export async function readForm(
  { request, response }: Pick<Call, 'request' | 'response'>,
  size: 'small' | 'large' = 'small',
): Promise<Form> {
  try {
    await (size === 'small' ? SMALL : LARGE)(request, response);
  } catch (error) {
    const { status, message } = error as Error & { status?: number };
    if (status === 413) throw new Problem('body-too-large', `A form here holds at most ${size === 'small' ? '20' : '500'} kB.`);
    if (status === 415) throw new Problem('unsupported-media-type', `The form cannot be read: ${message}.`);
    throw new Problem('invalid-input', `The form cannot be read: ${message}.`);
  }
  const body = (request.body ?? {}) as Record<string, unknown>;
  request.body = undefined;
  return Object.fromEntries(Object.entries(body).filter(([, value]) => typeof value === 'string')) as Form;
}
