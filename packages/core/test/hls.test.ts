import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type HlsRun, readHlsRun, writeHlsPlaylist } from '../src/index.js';

const WRITTEN = `#EXTM3U
#EXT-X-VERSION:7
#EXT-X-TARGETDURATION:1
#EXT-X-MEDIA-SEQUENCE:0
#EXT-X-INDEPENDENT-SEGMENTS
#EXT-X-MAP:URI="init0.mp4"
#EXTINF:1.001000,
s0_00000.m4s
#EXT-X-PROGRAM-DATE-TIME:2026-07-14T06:00:00Z
#EXTINF:0.999000,
s0_00001.m4s
`;

describe('a live playlist', () => {
  it('is read from what an encoder wrote', () => {
    expect(readHlsRun(WRITTEN, '1/')).toEqual({
      map: '1/init0.mp4',
      segments: [
        { uri: '1/s0_00000.m4s', durationS: 1.001 },
        { uri: '1/s0_00001.m4s', durationS: 0.999 },
      ],
    });
    expect(readHlsRun('#EXTM3U\n', '')).toBeNull();
  });

  const runs = fc.array(
    fc.array(fc.float({ min: 0.25, max: 4, noNaN: true }), { minLength: 0, maxLength: 12 }).map((durations) => durations),
    { minLength: 1, maxLength: 5 },
  );
  const made = (durations: number[][]): HlsRun[] =>
    durations.map((run, r) => ({ map: `${r}/init.mp4`, segments: run.map((durationS, s) => ({ uri: `${r}/${s}.m4s`, durationS })) }));

  it('lists the last segments in order, each after the initialisation of its run', () => {
    fc.assert(
      fc.property(runs, fc.integer({ min: 1, max: 10 }), (durations, window) => {
        const all = made(durations);
        const text = writeHlsPlaylist(all, { ended: false, window });
        const uris = all.flatMap(({ segments }) => segments.map(({ uri }) => uri));
        const listed = text.split('\n').filter((line) => line.endsWith('.m4s'));
        expect(listed).toEqual(uris.slice(-window));
        expect(Number(/MEDIA-SEQUENCE:(\d+)/.exec(text)?.[1])).toBe(uris.length - listed.length);
        let map = '';
        for (const line of text.split('\n')) {
          map = /^#EXT-X-MAP:URI="(\d+)\//.exec(line)?.[1] ?? map;
          if (line.endsWith('.m4s')) expect(line.split('/')[0]).toBe(map);
        }
        const target = Number(/TARGETDURATION:(\d+)/.exec(text)?.[1]);
        for (const [, duration] of text.matchAll(/#EXTINF:([\d.]+)/g)) expect(Math.round(Number(duration))).toBeLessThanOrEqual(target);
      }),
    );
  });

  it('numbers discontinuities alike, however far the window has moved', () => {
    const all = made([[1, 1], [1], [1, 1, 1]]);
    for (let window = 1; window <= 6; window++) {
      const text = writeHlsPlaylist(all, { ended: false, window });
      const before = Number(/DISCONTINUITY-SEQUENCE:(\d+)/.exec(text)?.[1]);
      expect(before + (text.match(/^#EXT-X-DISCONTINUITY$/gm)?.length ?? 0)).toBe(2);
    }
    expect(writeHlsPlaylist(all, { ended: true, window: 2 })).toMatch(/#EXT-X-PLAYLIST-TYPE:VOD[\s\S]*0\/0\.m4s[\s\S]*#EXT-X-ENDLIST\n$/);
  });
});
