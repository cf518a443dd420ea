/** What stands on a map of records: its measures, and one record as a dot. */
import type { OrchardRecord } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';

export const [WIDTH, HEIGHT] = [1000, 440];
/** Up to this many dots have names. */
export const NAMED = 40;
export type Position = [number, number];
export const positionOf = (record: JsonObject, field: string): Position | null =>
  (record[field] as { coordinates?: Position } | null)?.coordinates ?? null;

export function Dot({
  record,
  at: [x, y],
  label,
  named,
  fresh,
  onOpen,
}: {
  record: OrchardRecord;
  at: Position;
  label: string;
  named: boolean;
  fresh: boolean;
  onOpen: (id: string) => void;
}) {
  return (
    <>
      {fresh && <circle className="radius" cx={x} cy={y} r={12} />}
      {/* biome-ignore lint/a11y/useSemanticElements: SVG has no button */}
      <circle
        className="dot"
        cx={x}
        cy={y}
        r={6}
        role="button"
        tabIndex={0}
        aria-label={`Open ${label}`}
        onClick={() => onOpen(record.id)}
        onKeyDown={({ key }) => {
          if (key === 'Enter' || key === ' ') onOpen(record.id);
        }}
      >
        <title>{label}</title>
      </circle>
      {named && (
        <text className="name" x={x + 9} y={y + 4}>
          {label}
        </text>
      )}
    </>
  );
}
