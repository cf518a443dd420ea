/** Pictures drawn by a program: huts under mountains, and what lies in the way. The same ones every time. */
import sharp from 'sharp';
import { seededRandom } from './scenario.js';

const [WIDTH, HEIGHT] = [1600, 1067];
const SKIES = [
  ['#9fc4d8', '#f4e9d3'],
  ['#6f8fb0', '#f2c9a1'],
  ['#b9c6cc', '#eef0ec'],
  ['#3d5a80', '#d9a15c'],
] as const;
const WALLS = ['#7a4a2b', '#8c2f1f', '#5c6b4f', '#a0703a'] as const;

type Random = () => number;
const pick = <T>(random: Random, list: readonly T[]): T => list[Math.floor(random() * list.length)] as T;

/** A ridge from left to right, as the points of a polygon. */
function ridge(random: Random, top: number, height: number, steps: number): string {
  const points = Array.from({ length: steps + 1 }, (_, i) => {
    const peak = i % 2 === 1 ? random() * height : height * (0.6 + random() * 0.4);
    return `${Math.round((i * WIDTH) / steps)},${Math.round(top + peak)}`;
  });
  return `<polygon points="0,${HEIGHT} ${points.join(' ')} ${WIDTH},${HEIGHT}"`;
}

function landscape(random: Random, inFront: string): string {
  const [high, low] = pick(random, SKIES);
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${WIDTH}" height="${HEIGHT}">
  <defs><linearGradient id="sky" x1="0" y1="0" x2="0" y2="1"><stop offset="0" stop-color="${high}"/><stop offset="0.8" stop-color="${low}"/></linearGradient></defs>
  <rect width="${WIDTH}" height="${HEIGHT}" fill="url(#sky)"/>
  <circle cx="${Math.round(200 + random() * 1200)}" cy="${Math.round(120 + random() * 160)}" r="46" fill="#fff6de" opacity="0.85"/>
  ${ridge(random, 240, 320, 9)} fill="#8fa3ad"/>
  ${ridge(random, 420, 260, 13)} fill="#647b77"/>
  ${ridge(random, 640, 160, 7)} fill="#4a6350"/>
  ${inFront}
</svg>`;
}

function hut(random: Random): string {
  const [x, y, w, h] = [420 + random() * 500, 700 + random() * 60, 300 + random() * 120, 150 + random() * 40].map(Math.round) as [
    number,
    number,
    number,
    number,
  ];
  const windows = [0.15, 0.42, 0.7].map(
    (at) =>
      `<rect x="${x + Math.round(w * at)}" y="${y + Math.round(h * 0.32)}" width="44" height="44" fill="#f7d488" stroke="#fbf8f2" stroke-width="6"/>`,
  );
  return `<rect x="${x}" y="${y}" width="${w}" height="${h}" fill="${pick(random, WALLS)}"/>
  <polygon points="${x - 30},${y} ${x + w / 2},${y - 130} ${x + w + 30},${y}" fill="#2f3b3a"/>
  <rect x="${x + w - 70}" y="${y - 110}" width="26" height="80" fill="#4b4f4e"/>${windows.join('')}
  <ellipse cx="${x + w - 57}" cy="${y - 150}" rx="30" ry="16" fill="#e8ebe8" opacity="0.7"/>`;
}

function boulders(random: Random): string {
  const stones = Array.from({ length: 14 }, () => {
    const [cx, cy, r] = [500 + random() * 600, 800 + random() * 160, 22 + random() * 60].map(Math.round) as [number, number, number];
    return `<ellipse cx="${cx}" cy="${cy}" rx="${r}" ry="${Math.round(r * 0.7)}" fill="${pick(random, ['#7d7b75', '#96928a', '#5f5e5a'])}"/>`;
  });
  return `<path d="M560,${HEIGHT} C640,900 760,860 800,700" stroke="#c9b184" stroke-width="46" fill="none"/>${stones.join('')}`;
}

/** @param seed of this picture @returns a JPEG */
export const drawPicture = (of: 'hut' | 'hazard', seed: number): Promise<Buffer> => {
  const random = seededRandom(seed);
  const svg = landscape(random, of === 'hut' ? hut(random) : boulders(random));
  return sharp(Buffer.from(svg)).jpeg({ quality: 80 }).toBuffer();
};
