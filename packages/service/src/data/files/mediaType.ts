/** What a content is, judged by its first bytes; the name only helps among texts, which look alike. */
import { fileTypeFromBuffer } from 'file-type';
import mime from 'mime-types';

const UNKNOWN = 'application/octet-stream';
/** Texts whose kind their content shows. */
const MARKUP: readonly [RegExp, string][] = [
  [/^\s*(<\?xml[^>]*>\s*)?(<!--[\s\S]*?-->\s*)*(<!DOCTYPE svg[^>]*>\s*)?<svg[\s>]/i, 'image/svg+xml'],
  [/^\s*(<!--[\s\S]*?-->\s*)*<(!doctype html|html|head|body|script|iframe|title)[\s>]/i, 'text/html'],
  [/^\s*<\?xml[\s>]/i, 'application/xml'],
  [/^%PDF-/, 'application/pdf'],
];
/** Types that a name may give a text. */
const OF_TEXTS = /^text\/|^application\/(json|javascript|xml|yaml|geo\+json|manifest\+json|gpx\+xml)$|\+(json|xml)$/;

/** @param head the first few thousand bytes @param size of the whole content */
export async function mediaTypeOf(head: Buffer, size: number, name: string): Promise<string> {
  if (size === 0) return byName(name) ?? 'text/plain';
  const text = asText(head, size);
  const found = await fileTypeFromBuffer(head);
  // A picture or a page inside XML is told from other XML by its own first element.
  if (found && found.mime !== 'application/xml') return found.mime;
  if (text === null) return UNKNOWN;
  return MARKUP.find(([shape]) => shape.test(text))?.[1] ?? byName(name) ?? 'text/plain';
}

function byName(name: string): string | null {
  const type = mime.lookup(name);
  return type && OF_TEXTS.test(type) && type !== 'text/html' ? type : null;
}

/** The beginning as UTF-8 text; null where it is none. */
function asText(head: Buffer, size: number): string | null {
  try {
    // The last character of a beginning may be cut.
    return new TextDecoder('utf-8', { fatal: true }).decode(head, { stream: head.length < size }).includes('\u0000')
      ? null
      : head.toString('utf8');
  } catch {
    return null;
  }
}

/** Types that a browser may show by their address: none of them runs anything. */
const SHOWN = /^(image\/(jpeg|png|gif|webp|avif|bmp)|audio\/[\w.+-]+|video\/[\w.+-]+|text\/plain|application\/pdf)$/;
export const mayBeShown = (type: string): boolean => SHOWN.test(type);

/** `image/*` takes every type of pictures. */
export const isOfType = (type: string, wanted: string): boolean =>
  wanted.endsWith('/*') ? type.startsWith(wanted.slice(0, -1)) : type === wanted.toLowerCase();
