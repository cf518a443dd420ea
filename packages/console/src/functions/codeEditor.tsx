/** The code of a function: coloured, completed, and with errors where they are. */
import { autocompletion } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { javascript } from '@codemirror/lang-javascript';
import { bracketMatching, HighlightStyle, indentOnInput, syntaxHighlighting } from '@codemirror/language';
import { type Diagnostic, lintGutter, setDiagnostics } from '@codemirror/lint';
import { MergeView } from '@codemirror/merge';
import { EditorState, type Extension } from '@codemirror/state';
import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useEffect, useRef } from 'react';
import { completionsOf, type KnownNames } from './completion.js';

export type CodeError = { file: string; line: number; column: number; message: string };

/** The console's own colours, light or dark. */
const COLOURS = HighlightStyle.define([
  { tag: [tags.keyword, tags.controlKeyword, tags.moduleKeyword], color: 'var(--mantine-color-viridian-text)', fontWeight: '600' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--series-persimmon)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--series-persimmon)' },
  { tag: tags.comment, color: 'var(--mantine-color-dimmed)', fontStyle: 'italic' },
  { tag: [tags.typeName, tags.className], color: 'var(--mantine-color-viridian-text)' },
]);
const LOOK = EditorView.theme({
  '&': { border: '1px solid var(--rule)', borderRadius: '6px', fontSize: '.85rem', backgroundColor: 'var(--mantine-color-body)' },
  '&.cm-focused': { outline: '2px solid var(--mantine-color-viridian-6)' },
  '.cm-content': { fontFamily: 'var(--mantine-font-family-monospace)', caretColor: 'var(--mantine-color-text)' },
  '.cm-gutters': { backgroundColor: 'transparent', borderRight: '1px solid var(--rule)', color: 'var(--mantine-color-dimmed)' },
  '.cm-activeLine': { backgroundColor: 'var(--mantine-color-default-hover)' },
  '.cm-scroller': { maxHeight: '30rem', minHeight: '16rem' },
  '.cm-tooltip': { backgroundColor: 'var(--mantine-color-body)', border: '1px solid var(--rule)', color: 'var(--mantine-color-text)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--mantine-color-viridian-6)', color: '#fff' },
});
/** The editor writes its styles into the page, which takes those with the nonce alone. */
const NONCE = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? '';
const BARE: Extension[] = [EditorView.cspNonce.of(NONCE), lineNumbers(), LOOK];
const SHARED: Extension[] = [...BARE, javascript({ typescript: true }), syntaxHighlighting(COLOURS), bracketMatching()];

/** Where an error stands: from its column to the end of the word. */
function placed(state: EditorState, { line, column, message }: CodeError): Diagnostic {
  const at = state.doc.line(Math.min(Math.max(1, line), state.doc.lines));
  const from = Math.min(at.from + Math.max(0, column - 1), at.to);
  const word = state.wordAt(from);
  return { from, to: Math.max(from, word?.to ?? at.to), severity: 'error', message };
}

export function CodeEditor({
  label,
  value,
  onChange,
  errors,
  known,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  errors: readonly CodeError[];
  known: KnownNames;
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const latest = useRef({ onChange, known });
  latest.current = { onChange, known };
  const first = useRef(value);
  useEffect(() => {
    const editor = new EditorView({
      parent: host.current as HTMLDivElement,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          ...SHARED,
          history(),
          indentOnInput(),
          highlightActiveLine(),
          lintGutter(),
          autocompletion({ override: [completionsOf(() => latest.current.known)] }),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ 'aria-label': label }),
          EditorView.updateListener.of(({ docChanged, state }) => {
            if (docChanged) latest.current.onChange(state.doc.toString());
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [label]);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== value)
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
  }, [value]);
  useEffect(() => {
    const editor = view.current;
    if (editor)
      editor.dispatch(
        setDiagnostics(
          editor.state,
          errors.map((error) => placed(editor.state, error)),
        ),
      );
  }, [errors]);
  return <div ref={host} />;
}

/** Two versions side by side. @param plain for texts that are no code: without its colours, and wrapped */
export function Difference({ before, after, plain = false }: { before: string; after: string; plain?: boolean }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    // Reached by keyboard, so that it can be scrolled without a mouse.
    const only = (label: string) => [
      ...(plain ? [...BARE, EditorView.lineWrapping] : SHARED),
      EditorState.readOnly.of(true),
      EditorView.editable.of(false),
      EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
    ];
    const merge = new MergeView({
      parent: host.current as HTMLDivElement,
      a: { doc: before, extensions: only('Before') },
      b: { doc: after, extensions: only('After') },
      collapseUnchanged: { margin: 3 },
    });
    return () => merge.destroy();
  }, [before, after, plain]);
  return <div ref={host} className="difference" />;
}
