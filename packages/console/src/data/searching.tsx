/** Searching the texts of a collection that has a search index: a box beside the filter, and what was found in each record. */
import { TextInput } from '@mantine/core';
import type { OrchardRecord } from '@orchard/contract';
import type { Excerpt } from '@orchard/core';
import { IconSearch } from '@tabler/icons-react';
import { useState } from 'react';
import type { Column } from '../parts/listing.js';

const SEARCH = /^search\('((?:[^']|'')*)'\)(?: AND \((.*)\))?$/s;

/** The words that a filter searches for, and the rest of it. */
export function splitSearch(filter: string): { words: string; rest: string } {
  const [, words, rest] = SEARCH.exec(filter.trim()) ?? [];
  return words === undefined ? { words: '', rest: filter } : { words: words.replaceAll("''", "'"), rest: rest ?? '' };
}

export function joinSearch(words: string, rest: string): string {
  if (!words.trim()) return rest;
  return `search('${words.trim().replaceAll("'", "''")}')${rest.trim() ? ` AND (${rest.trim()})` : ''}`;
}

export function SearchBox({ fields, filter, onFilter }: { fields: string[]; filter: string; onFilter: (filter: string) => void }) {
  const { words, rest } = splitSearch(filter);
  const [typed, setTyped] = useState(words);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        onFilter(joinSearch(typed, rest));
      }}
    >
      <TextInput
        type="search"
        aria-label={`Search in ${fields.join(', ')}`}
        placeholder={`Search in ${fields.join(', ')}`}
        title="Every word has to be there; clos* finds beginnings, -summer leaves out"
        leftSection={<IconSearch size={15} />}
        value={typed}
        onChange={({ currentTarget }) => setTyped(currentTarget.value)}
        w={220}
      />
    </form>
  );
}

type Found = { field: string } & Excerpt;
const foundIn = (record: OrchardRecord): Found[] => (record._excerpts as Found[] | undefined) ?? [];

/** What was found in each record, with the words marked. */
export const FOUND: Column<OrchardRecord> = {
  name: '_excerpts',
  label: 'Found',
  render: (record) =>
    foundIn(record)
      .map(({ text }) => text)
      .join(' '),
  cell: (record) => (
    <div className="found">
      {foundIn(record).map(({ field, text, marks }) => (
        <div key={field}>
          <span className="found-in">{field}</span> {marked(text, marks)}
        </div>
      ))}
    </div>
  ),
};

function marked(text: string, marks: Excerpt['marks']) {
  const ends = [0, ...marks.flat(), text.length];
  return ends.slice(0, -1).map((from, i) => {
    const part = text.slice(from, ends[i + 1]);
    return i % 2 === 1 ? <mark key={from}>{part}</mark> : part;
  });
}
