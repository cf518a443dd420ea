/** A device with passkeys, in software (WebAuthn Level 3): it creates one, and signs with it. */
import { createHash, generateKeyPairSync, type KeyObject, randomBytes, sign } from 'node:crypto';
import { isoCBOR } from '@simplewebauthn/server/helpers';

type Options = { publicKey: { challenge: string; rp?: { id: string }; rpId?: string; user?: { id: string } } };
const sha256 = (data: string | Buffer) => createHash('sha256').update(data).digest();
/** User present, user verified; with attested credential data (section 6.1). */
const PRESENT_AND_VERIFIED = 0x05;
const WITH_CREDENTIAL = 0x40;

export class PasskeyDevice {
  readonly id = randomBytes(32);
  #key: KeyObject | null = null;
  #counter = 0;
  #userHandle = '';

  /** @param origin of the page or app that asks */
  constructor(private readonly origin: string) {}

  create({ publicKey: { challenge, rp, user } }: Options): Record<string, unknown> {
    const { privateKey, publicKey } = generateKeyPairSync('ec', { namedCurve: 'P-256' });
    this.#key = privateKey;
    this.#userHandle = user?.id ?? '';
    const { x = '', y = '' } = publicKey.export({ format: 'jwk' });
    // COSE (RFC 9052): EC2, ES256, P-256.
    const cose = new Map<number, number | Uint8Array>([
      [1, 2],
      [3, -7],
      [-1, 1],
      [-2, new Uint8Array(Buffer.from(x, 'base64url'))],
      [-3, new Uint8Array(Buffer.from(y, 'base64url'))],
    ]);
    const length = Buffer.from([0, this.id.length]);
    const credential = Buffer.concat([Buffer.alloc(16), length, this.id, Buffer.from(isoCBOR.encode(cose as never))]);
    const authData = Buffer.concat([this.#head(rp?.id ?? '', WITH_CREDENTIAL), credential]);
    const attestation = new Map<string, unknown>([
      ['fmt', 'none'],
      ['attStmt', new Map()],
      ['authData', new Uint8Array(authData)],
    ]);
    const attestationObject = Buffer.from(isoCBOR.encode(attestation as never)).toString('base64url');
    return this.#answer({ clientDataJSON: this.#clientData('webauthn.create', challenge), attestationObject, transports: ['internal'] });
  }

  use({ publicKey: { challenge, rpId } }: Options): Record<string, unknown> {
    const authenticatorData = this.#head(rpId ?? '', 0);
    const clientDataJSON = this.#clientData('webauthn.get', challenge);
    const signed = Buffer.concat([authenticatorData, sha256(Buffer.from(clientDataJSON, 'base64url'))]);
    const signature = sign('sha256', signed, this.#key as KeyObject).toString('base64url');
    return this.#answer({
      clientDataJSON,
      authenticatorData: authenticatorData.toString('base64url'),
      signature,
      userHandle: this.#userHandle,
    });
  }

  #head(site: string, more: number): Buffer {
    const counter = Buffer.alloc(4);
    counter.writeUInt32BE(++this.#counter);
    return Buffer.concat([sha256(site), Buffer.from([PRESENT_AND_VERIFIED | more]), counter]);
  }

  #clientData(type: string, challenge: string): string {
    return Buffer.from(JSON.stringify({ type, challenge, origin: this.origin, crossOrigin: false })).toString('base64url');
  }

  #answer(response: object): Record<string, unknown> {
    const id = this.id.toString('base64url');
    return { id, rawId: id, type: 'public-key', response, clientExtensionResults: {} };
  }
}
