/** What is signed of an HTTP request: the signature base of RFC 9421. The signing itself needs a key, and is the caller's. */

export type Signed = { method: string; url: string; headers: Record<string, string> };

/** RFC 9421 section 2.5: the covered components in their order, then the parameters. */
export function signatureBase({ method, url, headers }: Signed, components: readonly string[], parameters: string): string {
  const value = (name: string) => (name === '@method' ? method : name === '@target-uri' ? url : (headers[name] ?? ''));
  return [...components.map((name) => `"${name}": ${value(name)}`), `"@signature-params": ${parameters}`].join('\n');
}

/** RFC 9421 section 2.3: the parameters of a signature, as `Signature-Input` has them. */
export const signatureParameters = (components: readonly string[], createdS: number, keyId: string): string =>
  `(${components.map((name) => `"${name}"`).join(' ')});created=${createdS};keyid="${keyId}";alg="hmac-sha256"`;
