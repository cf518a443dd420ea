/** Renditions of pictures: made once by `sharp`, kept, and without what a camera writes beside the picture, such as its position. */
import { createReadStream } from 'node:fs';
import { Readable } from 'node:stream';
import { Problem, type RENDITION_FORMATS } from '@orchard/contract';
import pLimit from 'p-limit';
import sharp from 'sharp';
import type { Environment } from '../../platform/call.js';
import type { Contents } from './contents.js';
import { run } from './ffmpeg.js';
import type { Parts } from './parts.js';
import { findRendition, keepRendition } from './renditionStore.js';

export type RenditionFormat = (typeof RENDITION_FORMATS)[number];
export type RenditionWish = {
  width?: number | undefined;
  height?: number | undefined;
  fit?: 'inside' | 'cover' | 'contain' | 'fill' | undefined;
  format?: RenditionFormat | undefined;
};
export type Rendition = { digest: string; size: number; type: string; negotiated: boolean };

/** A picture of more pixels is not opened: 50,000 x 50,000 of them would take 10 GB. */
const MOST_PIXELS = 100_000_000;
const READABLE = /^image\/(jpeg|png|webp|avif|gif|tiff)$|^video\//;
const SECONDS = 20;
/** One at a time leaves the other processor to calls. */
const oneAtATime = pLimit(1);
sharp.concurrency(1);
sharp.cache(false);

export class Renditions {
  constructor(
    private readonly parts: Parts,
    private readonly contents: Contents,
  ) {}

  /** The rendition that is asked for; null where the picture itself is. @throws {Problem} no-rendition, content-damaged */
  async of(
    environment: Environment,
    source: { digest: string; type: string; path: string },
    wish: RenditionWish,
    accept: string | undefined,
  ): Promise<Rendition | null> {
    const { width, height, fit, format } = wish;
    if (width === undefined && height === undefined && format === undefined) {
      if (fit !== undefined) throw new Problem('no-rendition', '`fit` needs a `width` or a `height` to fit into.');
      return null;
    }
    if (!READABLE.test(source.type))
      throw new Problem(
        'no-rendition',
        `${source.path} is of type ${source.type}; renditions are made of JPEG, PNG, WebP, AVIF, GIF, TIFF and video.`,
      );
    const chosen = format ?? preferred(accept, source.type);
    const type = `image/${chosen}`;
    const form = [width ?? '-', height ?? '-', fit ?? 'inside', chosen].join(' ');
    const known = await findRendition(environment, source.digest, form);
    if (known) return { digest: known.content, size: Number(known.size), type, negotiated: format === undefined };
    const made = await oneAtATime(
      async () => (await findRendition(environment, source.digest, form)) ?? this.#make(environment, source, wish, chosen, form),
    );
    return { digest: made.content, size: Number(made.size), type, negotiated: format === undefined };
  }

  async #make(
    environment: Environment,
    { digest, path, type }: { digest: string; path: string; type: string },
    { width, height, fit = 'inside' }: RenditionWish,
    format: RenditionFormat,
    form: string,
  ): Promise<{ content: string; size: number }> {
    const place = this.contents.bytes.place(environment.id, digest);
    const picture = sharp({ limitInputPixels: MOST_PIXELS, failOn: 'error', sequentialRead: true, animated: false })
      // As the camera was held; after that, what else it wrote is left out.
      .autoOrient()
      .timeout({ seconds: SECONDS });
    if (width !== undefined || height !== undefined)
      picture.resize({ width, height, fit: fit as 'inside', withoutEnlargement: fit === 'inside', background: '#00000000' });
    let bytes: Buffer;
    try {
      const made = picture.toFormat(format, QUALITY[format]);
      const still = type.startsWith('video/') ? await stillOf(place) : createReadStream(place);
      still.once('error', (error: Error) => made.destroy(error));
      bytes = await still.pipe(made).toBuffer();
    } catch (error) {
      if (error instanceof Problem) throw error;
      throw await this.#problem(environment, digest, path, error as NodeJS.ErrnoException);
    }
    const arrived = await this.contents.bytes.take(environment.id, Readable.from([bytes]));
    await this.contents.keep(environment, arrived);
    await keepRendition(environment, { digest, form, content: arrived.digest, size: arrived.size, usedAt: new Date(this.parts.now()) });
    return { content: arrived.digest, size: arrived.size };
  }

  async #problem(environment: Environment, digest: string, path: string, error: NodeJS.ErrnoException): Promise<Problem> {
    if (error.code === 'ENOENT') {
      await this.contents.noteVerified(environment, digest, false);
      return new Problem('content-damaged');
    }
    if (/pixel limit/i.test(error.message))
      return new Problem(
        'no-rendition',
        `${path} has more than ${MOST_PIXELS.toLocaleString('en')} pixels; no rendition is made of such a picture.`,
      );
    return new Problem('no-rendition', `${path} cannot be read as a picture: ${error.message.split('\n')[0]}.`);
  }
}

/** The first picture of a video. @throws {Problem} no-encoder */
async function stillOf(file: string): Promise<Readable> {
  const source = ['-protocol_whitelist', 'file', '-i', file, '-frames:v', '1'];
  const { child } = await run('ffmpeg', [...source, '-f', 'image2pipe', '-c:v', 'png', 'pipe:1'], '/');
  child.stdin.end();
  return child.stdout;
}

const QUALITY = {
  jpeg: { quality: 82, mozjpeg: true },
  png: { compressionLevel: 9 },
  webp: { quality: 80 },
  avif: { quality: 55, effort: 3 },
} as const;

/** RFC 9110 section 12.5.1, as browsers use it: a modern format where `Accept` names it. */
function preferred(accept: string | undefined, type: string): RenditionFormat {
  if (accept?.includes('image/avif')) return 'avif';
  if (accept?.includes('image/webp')) return 'webp';
  return type === 'image/png' || type === 'image/gif' ? 'png' : 'jpeg';
}
