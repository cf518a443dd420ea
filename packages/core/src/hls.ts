/** Playlists of HTTP Live Streaming (RFC 8216), made of those that several runs of an encoder wrote. */

export type HlsSegment = { uri: string; durationS: number };
/** What one run of an encoder wrote: its initialisation (RFC 8216 section 3.3) and its segments, with where they are. */
export type HlsRun = { map: string; segments: readonly HlsSegment[] };

/** Reads a media playlist of fMP4 segments. @param at put before each address */
export function readHlsRun(text: string, at: string): HlsRun | null {
  const map = /^#EXT-X-MAP:URI="([^"]+)"/m.exec(text)?.[1];
  if (!map) return null;
  const segments = [...text.matchAll(/^#EXTINF:([\d.]+),[^\n]*\n(?:#[^\n]*\n)*([^#\n][^\n]*)$/gm)].map(([, duration, uri]) => ({
    uri: `${at}${uri}`,
    durationS: Number(duration),
  }));
  return { map: `${at}${map}`, segments };
}

/**
 * A media playlist over runs. A run that follows another begins anew in time and form (RFC 8216 section 4.3.2.3).
 * @param window how many of the last segments are listed while it is live; null for all
 */
export function writeHlsPlaylist(runs: readonly HlsRun[], { ended, window }: { ended: boolean; window: number | null }): string {
  const all = runs.flatMap(({ map, segments }, run) => segments.map((segment) => ({ ...segment, map, run })));
  const first = ended || window === null ? 0 : Math.max(0, all.length - window);
  const listed = all.slice(first);
  // Section 4.3.3.3: how many discontinuities went before the first segment that is listed.
  const before = listed[0]?.run ?? Math.max(0, runs.length - 1);
  // Section 4.3.3.1: no segment is longer, rounded to the nearest second.
  const longest = all.reduce((most, { durationS }) => Math.max(most, durationS), 1);
  const lines = [
    '#EXTM3U',
    '#EXT-X-VERSION:7',
    `#EXT-X-TARGETDURATION:${Math.ceil(longest)}`,
    `#EXT-X-MEDIA-SEQUENCE:${first}`,
    `#EXT-X-DISCONTINUITY-SEQUENCE:${before}`,
    ...(ended ? ['#EXT-X-PLAYLIST-TYPE:VOD'] : []),
    '#EXT-X-INDEPENDENT-SEGMENTS',
  ];
  let run = -1;
  for (const segment of listed) {
    if (segment.run !== run) {
      if (run >= 0) lines.push('#EXT-X-DISCONTINUITY');
      lines.push(`#EXT-X-MAP:URI="${segment.map}"`);
      run = segment.run;
    }
    lines.push(`#EXTINF:${segment.durationS.toFixed(5)},`, segment.uri);
  }
  if (ended) lines.push('#EXT-X-ENDLIST');
  return `${lines.join('\n')}\n`;
}
