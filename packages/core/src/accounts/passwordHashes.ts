/**
 * Password hashes of other systems, as text: the PHC string format (github.com/P-H-C/phc-string-format, the form that argon2 and
 * scrypt define for themselves), and `$2b$…` of bcrypt.
 */
export type KnownHash =
  | { scheme: 'argon2' | 'bcrypt' }
  | { scheme: 'scrypt'; ln: number; r: number; p: number; salt: Uint8Array; hash: Uint8Array }
  | { scheme: 'pbkdf2'; digest: 'sha1' | 'sha256' | 'sha512'; iterations: number; salt: Uint8Array; hash: Uint8Array };

/** What one check may cost at most: a hash that takes a minute would stop everybody's sign-in. */
const MOST = { argon2MemoryKib: 262_144, argon2Passes: 20, bcryptCost: 15, scryptLn: 18, scryptR: 32, scryptP: 16, iterations: 4_000_000 };

/** A hash, or what is wrong with it, in words. */
export function readPasswordHash(text: string): KnownHash | string {
  if (/^\$argon2(id|i|d)\$/.test(text)) return argon2(text);
  if (/^\$2[aby]\$/.test(text)) return bcrypt(text);
  if (text.startsWith('$scrypt$')) return scrypt(text);
  if (/^\$pbkdf2(-sha(1|256|512))?\$/.test(text)) return pbkdf2(text);
  return 'It is no hash of argon2, bcrypt, scrypt or PBKDF2 in the PHC string format, such as $argon2id$v=19$m=19456,t=2,p=1$…';
}

const tooCostly = (what: string) => `Its check would cost too much: ${what}`;

function argon2(text: string): KnownHash | string {
  const [, memory, passes] = /^\$argon2(?:id|i|d)\$(?:v=\d+\$)?m=(\d+),t=(\d+),p=\d+\$[\w+/]+\$[\w+/]+$/.exec(text) ?? [];
  if (!memory || !passes) return 'It is no argon2 hash: expected $argon2id$v=19$m=…,t=…,p=…$salt$hash';
  if (Number(memory) > MOST.argon2MemoryKib || Number(passes) > MOST.argon2Passes) return tooCostly(`m=${memory}, t=${passes}`);
  return { scheme: 'argon2' };
}

function bcrypt(text: string): KnownHash | string {
  const [, cost] = /^\$2[aby]\$(\d\d)\$[./A-Za-z0-9]{53}$/.exec(text) ?? [];
  if (!cost) return 'It is no bcrypt hash: expected $2b$cost$ and 53 characters';
  return Number(cost) > MOST.bcryptCost ? tooCostly(`cost ${cost}`) : { scheme: 'bcrypt' };
}

function scrypt(text: string): KnownHash | string {
  const [, ln, r, p, salt, hash] = /^\$scrypt\$ln=(\d+),r=(\d+),p=(\d+)\$([\w+/]+)\$([\w+/]+)$/.exec(text) ?? [];
  if (!ln || !r || !p || !salt || !hash) return 'It is no scrypt hash: expected $scrypt$ln=…,r=…,p=…$salt$hash';
  const cost = { ln: Number(ln), r: Number(r), p: Number(p) };
  if (cost.ln > MOST.scryptLn || cost.r > MOST.scryptR || cost.p > MOST.scryptP) return tooCostly(`ln=${ln}, r=${r}, p=${p}`);
  return { scheme: 'scrypt', ...cost, salt: bytesOf(salt), hash: bytesOf(hash) };
}

/** `$pbkdf2-sha256$i=600000,l=32$salt$hash`, and `$pbkdf2-sha256$600000$salt$hash` with `.` for `+`. */
function pbkdf2(text: string): KnownHash | string {
  const [, digest = '-sha1', iterations, salt, hash] =
    /^\$pbkdf2(-sha1|-sha256|-sha512)?\$(?:i=)?(\d+)(?:,l=\d+)?\$([\w+/.]+)\$([\w+/.]+)$/.exec(text) ?? [];
  if (!iterations || !salt || !hash) return 'It is no PBKDF2 hash: expected $pbkdf2-sha256$i=…$salt$hash';
  if (Number(iterations) > MOST.iterations) return tooCostly(`${iterations} iterations`);
  return {
    scheme: 'pbkdf2',
    digest: digest.slice(1) as 'sha256',
    iterations: Number(iterations),
    salt: bytesOf(salt),
    hash: bytesOf(hash),
  };
}

/** Base64 without padding. */
const bytesOf = (text: string): Uint8Array => Uint8Array.from(atob(text.replaceAll('.', '+')), (letter) => letter.charCodeAt(0));
