/** Names longer than this are no misspelling of a known one. */
const MAX_LENGTH = 100;
/** The most known names that are compared. */
const MAX_KNOWN = 2_000;

/** “; did you mean …” for the known name that is fewest edits away, if it is near enough. */
export function nearest(name: string, known: Iterable<string>): string {
  if (name.length > MAX_LENGTH) return '';
  const wanted = name.toLowerCase();
  let best = { name: '', distance: Math.max(2, Math.floor(name.length / 3) + 1) };
  let seen = 0;
  for (const candidate of known) {
    if (++seen > MAX_KNOWN) break;
    // Each added or missing character is one edit.
    if (Math.abs(candidate.length - name.length) >= best.distance) continue;
    const distance = editDistance(wanted, candidate.toLowerCase());
    if (distance < best.distance) best = { name: candidate, distance };
  }
  return best.name ? `; did you mean \`${best.name}\`?` : '';
}

/** Edits between two texts, one row at a time: a character more, less or other, or two in the wrong order (optimal string alignment). */
function editDistance(a: string, b: string): number {
  let twoAbove: number[] = [];
  let above: number[] = [];
  let row = Array.from({ length: b.length + 1 }, (_, i) => i);
  for (let i = 1; i <= a.length; i++) {
    [twoAbove, above, row] = [above, row, [i]];
    for (let j = 1; j <= b.length; j++) {
      const other = (above[j - 1] as number) + (a[i - 1] === b[j - 1] ? 0 : 1);
      const swapped = i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1] ? (twoAbove[j - 2] as number) + 1 : other;
      row.push(Math.min((above[j] as number) + 1, (row[j - 1] as number) + 1, other, swapped));
    }
  }
  return row[b.length] as number;
}
