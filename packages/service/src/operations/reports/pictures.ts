/** Charts of digests as PNG. */
import { fileURLToPath } from 'node:url';
import { chartSvg, type DigestMail } from '@orchard/core';
import { renderAsync } from '@resvg/resvg-js';

const FONTS = ['Figtree-Regular.ttf', 'Figtree-SemiBold.ttf'].map((name) =>
  fileURLToPath(new URL(`../../../assets/fonts/${name}`, import.meta.url)),
);
/** Twice the size in which it is shown, for dense screens. */
const ZOOM = 2;

export async function chartPicture({ block, zone }: DigestMail['charts'][number]): Promise<Buffer> {
  const rendered = await renderAsync(chartSvg(block, zone), {
    fitTo: { mode: 'zoom', value: ZOOM },
    font: { loadSystemFonts: false, fontFiles: FONTS, defaultFontFamily: 'Figtree' },
  });
  return rendered.asPng();
}
