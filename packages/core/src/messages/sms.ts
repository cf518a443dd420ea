/** Short messages: how a text is encoded, and how many segments it takes (3GPP TS 23.038 and 23.040). */

/** The default alphabet of 3GPP TS 23.038 section 6.2.1, in the order of its codes; ESC stands at 0x1b. */
const DEFAULT_ALPHABET =
  '@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\u001bÆæßÉ !"#¤%&\'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà';
/** Section 6.2.1.1: these follow an escape, so each takes two septets. */
const EXTENSION: Record<string, number> = {
  '\f': 0x0a,
  '^': 0x14,
  '{': 0x28,
  '}': 0x29,
  '\\': 0x2f,
  '[': 0x3c,
  '~': 0x3d,
  ']': 0x3e,
  '|': 0x40,
  '€': 0x65,
};

const CODES = new Map([...DEFAULT_ALPHABET].map((letter, code) => [letter, code]));
CODES.delete('\u001b');
const LETTERS = new Map([...CODES].map(([letter, code]) => [code, letter]));
const EXTENDED = new Map(Object.entries(EXTENSION).map(([letter, code]) => [code, letter]));

/** TS 23.040 section 9.2.3.24.1: with a concatenation header of six octets, fewer characters fit. */
const GSM7 = { alone: 160, joined: 153 };
const UCS2 = { alone: 70, joined: 67 };
export const MOST_SEGMENTS = 10;

export type SmsPlan = {
  encoding: 'gsm7' | 'ucs2';
  /** Septets or UTF-16 units. */
  units: number;
  segments: number;
  /** Units that still fit into the last segment. */
  left: number;
  /** The characters that force UCS-2, each once. */
  forcing: string[];
};

const gsmUnits = (letter: string): number => (CODES.has(letter) ? 1 : Object.hasOwn(EXTENSION, letter) ? 2 : 0);

/** Splits a text so that no escape pair, and no surrogate pair, is cut. */
function pack(letters: string[], unitsOf: (letter: string) => number, room: { alone: number; joined: number }): string[] {
  const total = letters.reduce((sum, letter) => sum + unitsOf(letter), 0);
  if (total <= room.alone) return [letters.join('')];
  const parts: string[] = [];
  let part = '';
  let used = 0;
  for (const letter of letters) {
    const units = unitsOf(letter);
    if (used + units > room.joined) {
      parts.push(part);
      part = '';
      used = 0;
    }
    part += letter;
    used += units;
  }
  return [...parts, part];
}

/** The texts of the segments a message goes in. */
export function segmentsOf(text: string): { encoding: SmsPlan['encoding']; parts: string[] } {
  const letters = [...text];
  const encoding = letters.every((letter) => gsmUnits(letter) > 0) ? 'gsm7' : 'ucs2';
  return { encoding, parts: encoding === 'gsm7' ? pack(letters, gsmUnits, GSM7) : pack(letters, (letter) => letter.length, UCS2) };
}

/** Encoding, segments, room left, and the characters that force UCS-2. */
export function planSms(text: string): SmsPlan {
  const { encoding, parts } = segmentsOf(text);
  const unitsOf = (part: string) => (encoding === 'gsm7' ? [...part].reduce((sum, letter) => sum + gsmUnits(letter), 0) : part.length);
  const room = encoding === 'gsm7' ? GSM7 : UCS2;
  const last = unitsOf(parts.at(-1) ?? '');
  return {
    encoding,
    units: parts.reduce((sum, part) => sum + unitsOf(part), 0),
    segments: parts.length,
    left: (parts.length > 1 ? room.joined : room.alone) - last,
    forcing: encoding === 'gsm7' ? [] : [...new Set([...text].filter((letter) => gsmUnits(letter) === 0))],
  };
}

/** Octets of a segment as SMPP carries them: one septet an octet for the default alphabet, UTF-16BE for UCS-2. */
export function encodeSms(part: string, encoding: SmsPlan['encoding']): Uint8Array {
  if (encoding === 'gsm7') {
    const codes: number[] = [];
    for (const letter of part) {
      const code = CODES.get(letter);
      if (code !== undefined) codes.push(code);
      else codes.push(0x1b, EXTENSION[letter] ?? 0x3f);
    }
    return Uint8Array.from(codes);
  }
  const octets = new Uint8Array(part.length * 2);
  for (let i = 0; i < part.length; i++) {
    octets[i * 2] = part.charCodeAt(i) >> 8;
    octets[i * 2 + 1] = part.charCodeAt(i) & 0xff;
  }
  return octets;
}

/** The text of octets encoded as {@link encodeSms} does. */
export function decodeSms(octets: Uint8Array, encoding: SmsPlan['encoding']): string {
  let text = '';
  if (encoding === 'ucs2') {
    for (let i = 0; i + 1 < octets.length; i += 2) text += String.fromCharCode(((octets[i] as number) << 8) | (octets[i + 1] as number));
    return text;
  }
  for (let i = 0; i < octets.length; i++) {
    const octet = octets[i] as number;
    // Section 6.2.1.1: an unknown code after an escape is shown as the character of the default table.
    if (octet === 0x1b) text += EXTENDED.get(octets[++i] as number) ?? LETTERS.get(octets[i] as number) ?? ' ';
    else text += LETTERS.get(octet) ?? '?';
  }
  return text;
}

/** Opt-out and opt-in words, by language; the first word of a reply is compared. */
export type OptWords = { out: string[]; in: string[] };
export const DEFAULT_OPT_WORDS: OptWords = {
  out: ['STOP', 'STOPP', 'ARRET', 'ALTO', 'BAJA', 'PARAR', 'BASTA', 'SLUTT', 'ENDE', '停止', 'END', 'QUIT', 'UNSUBSCRIBE', 'CANCEL'],
  in: ['START', 'STARTEN', 'COMMENCER', 'INICIAR', 'ALTA', '開始', 'YES', 'JA', 'SUBSCRIBE'],
};

const folded = (word: string) => word.normalize('NFD').replace(/\p{M}/gu, '').toUpperCase();

/** Whether a reply is an opt-out or an opt-in. */
export function readOptWord(text: string, words: OptWords): 'out' | 'in' | null {
  const first = folded(text.trim().split(/[\s.,!]+/u)[0] ?? '');
  if (!first) return null;
  if (words.out.some((word) => folded(word) === first)) return 'out';
  return words.in.some((word) => folded(word) === first) ? 'in' : null;
}
