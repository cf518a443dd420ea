/** A limit as a bar that fills towards its notches: the first is `stressed`, the second `failing`. */
import type { Finding } from '@orchard/contract';
import { fillOf, NOTCHES } from '@orchard/core';

const [WIDTH, HEIGHT] = [120, 14];

export function NotchBar({ of }: { of: Finding }) {
  const fill = of.value === null ? 0 : fillOf(of, of.value);
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} width={WIDTH} height={HEIGHT} className="notch-bar" aria-hidden="true">
      <rect x={0} y={4} width={WIDTH} height={6} rx={1} className="track" />
      <rect x={0} y={4} width={fill * WIDTH} height={6} rx={1} data-condition={of.condition} className="fill" />
      {Object.values(NOTCHES).map((notch) => (
        <path key={notch} d={`M${notch * WIDTH - 3} 0H${notch * WIDTH + 3}L${notch * WIDTH} 4Z M${notch * WIDTH} 4V13`} className="notch" />
      ))}
    </svg>
  );
}
