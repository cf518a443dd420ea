/** How the team wants the sign-in page to look. */
import type { Environment } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';

/** `picture` is a `data:` address. */
export type PageLook = { name: string | null; colour: string | null; picture: string | null };
const looks = new Settings<PageLook>('sign-in page', () => ({ name: null, colour: null, picture: null }));
export const pageLook = looks;

export async function changeLook(environment: Environment, changes: Partial<PageLook>, now: Date): Promise<PageLook> {
  looks.forget(environment);
  const look = { ...(await looks.read(environment)), ...changes };
  await looks.write(environment, look, now);
  return look;
}

/** The bytes of a picture, and their media type. */
export function readPicture({ picture }: PageLook): { type: string; bytes: Buffer } | null {
  const [, type, data] = /^data:(image\/\w+);base64,(.+)$/.exec(picture ?? '') ?? [];
  return type && data ? { type, bytes: Buffer.from(data, 'base64') } : null;
}

/** Black or white, whichever is easier to read on a colour (WCAG 2.2, relative luminance). */
export function inkOn(colour: string): '#000000' | '#ffffff' {
  const [red = 0, green = 0, blue = 0] = [1, 3, 5]
    .map((at) => Number.parseInt(colour.slice(at, at + 2), 16) / 255)
    .map((part) => (part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4));
  const luminance = 0.2126 * red + 0.7152 * green + 0.0722 * blue;
  return (luminance + 0.05) / 0.05 > 1.05 / (luminance + 0.05) ? '#000000' : '#ffffff';
}
