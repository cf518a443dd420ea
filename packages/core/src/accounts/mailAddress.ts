/** Mail addresses in all their valid forms, and the one form in which an address is kept, so that it is found again. */

/** RFC 5321 section 4.5.3.1: octets of the part before @, and of the whole. */
const MOST_LOCAL = 64;
const MOST_IN_ALL = 254;

/** RFC 5322 section 3.2.3, with the characters beyond ASCII of RFC 6531 section 3.3. */
const ATOM = String.raw`[a-z0-9!#$%&'*+/=?^_${'`'}{|}~\u0080-\u{10ffff}-]+`;
const DOT_ATOM = new RegExp(`^${ATOM}(?:\\.${ATOM})*$`, 'u');
/** RFC 5321 section 4.1.2: anything printable in quotes, some of it behind a backslash. */
const QUOTED = /^"((?:[^"\\\u0000-\u001f\u007f]|\\[\u0020-\u007e])*)"$/u;
/** Of a domain in ASCII, which has at least two labels. */
const DOMAIN = /^(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?$/;

/**
 * The form in which an address is kept: lower case, composed characters (Unicode NFC), quotes only where they are needed, and
 * the domain in ASCII (RFC 5891), as in `runa@xn--bltt-5qa.example`.
 * @returns null for what is no mail address
 */
export function readMailAddress(text: string): string | null {
  const plain = text.trim().normalize('NFC').toLowerCase();
  const at = plain.lastIndexOf('@');
  const local = readLocal(plain.slice(0, Math.max(0, at)));
  const domain = readDomain(plain.slice(at + 1));
  if (local === null || domain === null || octets(local) > MOST_LOCAL) return null;
  const address = `${local}@${domain}`;
  return octets(address) <= MOST_IN_ALL ? address : null;
}

function readLocal(text: string): string | null {
  if (DOT_ATOM.test(text)) return text;
  const quoted = QUOTED.exec(text)?.[1]?.replace(/\\(.)/gu, '$1');
  if (!quoted) return null;
  return DOT_ATOM.test(quoted) ? quoted : `"${quoted.replace(/["\\]/g, '\\$&')}"`;
}

function readDomain(text: string): string | null {
  // What would be another part of a URL is none of a domain; a number alone would become an IP address.
  if (/[^\p{L}\p{N}\p{M}.\u3002\u00b7-]/u.test(text)) return null;
  try {
    const domain = new URL(`http://${text}`).hostname;
    return DOMAIN.test(domain) && !/\.\d+$/.test(domain) ? domain : null;
  } catch {
    return null;
  }
}

const octets = (text: string): number => new TextEncoder().encode(text).length;
