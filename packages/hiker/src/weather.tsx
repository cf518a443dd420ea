import { useRecord } from '@orchard/react';
import type { Schema } from './schema.js';

/** The bulletin that every phone watches. */
export function Weather() {
  const { record } = useRecord<Schema['bulletins']>('bulletins', 'ridge-weather');
  if (!record) return null;
  return (
    <aside className="weather" data-level={record.level ?? 1} aria-label="Ridge weather">
      <strong>{record.title}</strong>
      <span>{record.body}</span>
    </aside>
  );
}
