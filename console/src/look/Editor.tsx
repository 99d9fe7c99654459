import { autocompletion, type CompletionSource } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { json } from '@codemirror/lang-json';
import { yaml } from '@codemirror/lang-yaml';
import { HighlightStyle, indentUnit, syntaxHighlighting } from '@codemirror/language';
import { type Diagnostic, lintGutter, setDiagnostics } from '@codemirror/lint';
import { unifiedMergeView } from '@codemirror/merge';
import { EditorState, type Extension } from '@codemirror/state';
import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useEffect, useRef } from 'react';
import styles from './Editor.module.css';

/** A mistake in the text; line and column count from 1. */
export interface Mistake {
  line: number;
  column: number;
  text: string;
}

export interface EditorProps {
  label: string;
  language: 'yaml' | 'json';
  value: string;
  onChange?: (value: string) => void;
  /** The line that the cursor is in, from 0. */
  onLine?: (line: number) => void;
  mistakes?: Mistake[];
  complete?: CompletionSource;
  /** What it is compared with. */
  before?: string;
  /** A line to go to, from 0; another object each time it is asked for. */
  goTo?: { line: number } | null;
}

const nonce = () => document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content ?? '';

const highlighting = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--rv-verdigris)' },
  { tag: [tags.string, tags.content], color: 'var(--rv-ink)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--rv-copper)' },
  { tag: [tags.comment], color: 'var(--rv-ink-3)' },
  { tag: [tags.punctuation, tags.separator, tags.brace, tags.squareBracket], color: 'var(--rv-ink-3)' },
]);

const look = EditorView.theme({
  '&': { background: 'var(--rv-raised)', color: 'var(--rv-ink)', fontSize: '13px', height: '100%' },
  '.cm-content': { fontFamily: 'var(--rv-font-code)', caretColor: 'var(--rv-ink)' },
  '.cm-gutters': {
    background: 'var(--rv-sunken)',
    color: 'var(--rv-ink-3)',
    border: 'none',
    fontFamily: 'var(--rv-font-code)',
  },
  '.cm-activeLine, .cm-activeLineGutter': { background: 'var(--rv-sunken)' },
  '&.cm-focused': { outline: 'none' },
  '.cm-cursor': { borderLeftColor: 'var(--rv-ink)' },
  '.cm-selectionBackground, &.cm-focused .cm-selectionBackground, ::selection': {
    background: 'var(--rv-verdigris-wash)',
  },
  '.cm-tooltip': { background: 'var(--rv-raised)', color: 'var(--rv-ink)', border: '1px solid var(--rv-line-strong)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    background: 'var(--rv-verdigris-fill)',
    color: 'var(--rv-on-verdigris)',
  },
  '.cm-completionInfo': { maxWidth: '320px', fontFamily: 'var(--rv-font)' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--rv-carmine-fill)' },
  '.cm-changedLine': { background: 'var(--rv-verdigris-wash)' },
  '.cm-collapsedLines::before, .cm-collapsedLines::after': { content: '"…"' },
  '.cm-deletedChunk': { background: 'var(--rv-carmine-wash)' },
});

/** A text editor with line numbers, and mistakes shown where they are. */
export default function Editor(props: EditorProps) {
  const { label, language, value, mistakes, before, goTo } = props;
  const holder = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  /** The text is being replaced by the page, and nobody has typed. */
  const given = useRef(false);
  const latest = useRef(props);
  latest.current = props;

  useEffect(() => {
    const { onChange, complete } = latest.current;
    const extensions: Extension[] = [
      EditorView.cspNonce.of(nonce()),
      lineNumbers(),
      history(),
      keymap.of([...defaultKeymap, ...historyKeymap]),
      language === 'yaml' ? yaml() : json(),
      indentUnit.of('  '),
      EditorState.tabSize.of(2),
      syntaxHighlighting(highlighting),
      look,
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label }),
      EditorView.updateListener.of((update) => {
        if (update.docChanged && !given.current) latest.current.onChange?.(update.state.doc.toString());
        if (update.docChanged || update.selectionSet) {
          latest.current.onLine?.(update.state.doc.lineAt(update.state.selection.main.head).number - 1);
        }
      }),
    ];
    if (onChange) extensions.push(highlightActiveLine(), lintGutter());
    else extensions.push(EditorState.readOnly.of(true));
    if (complete)
      extensions.push(autocompletion({ override: [(context) => latest.current.complete?.(context) ?? null] }));
    if (before !== undefined) {
      extensions.push(
        unifiedMergeView({ original: before, mergeControls: false, collapseUnchanged: { margin: 3, minSize: 6 } }),
      );
    }
    const made = new EditorView({
      state: EditorState.create({ doc: value, extensions }),
      parent: holder.current as HTMLDivElement,
    });
    made.scrollDOM.tabIndex = 0; // what scrolls must be reachable by keyboard
    view.current = made;
    return () => made.destroy();
  }, [language, label, before]);

  useEffect(() => {
    const { current } = view;
    if (current && current.state.doc.toString() !== value) {
      given.current = true;
      current.dispatch({ changes: { from: 0, to: current.state.doc.length, insert: value } });
      given.current = false;
    }
  }, [value]);

  useEffect(() => {
    const { current } = view;
    if (!current) return;
    const { doc } = current.state;
    const shown = (mistakes ?? []).map((m): Diagnostic => {
      const line = doc.line(Math.min(Math.max(1, m.line), doc.lines));
      const from = Math.min(line.to, line.from + Math.max(0, m.column - 1));
      return { from, to: line.to, severity: 'error', message: m.text };
    });
    current.dispatch(setDiagnostics(current.state, shown));
  }, [mistakes]);

  useEffect(() => {
    const { current } = view;
    if (!current || !goTo) return;
    const line = current.state.doc.line(Math.min(goTo.line + 1, current.state.doc.lines));
    current.dispatch({
      selection: { anchor: line.from },
      effects: EditorView.scrollIntoView(line.from, { y: 'start', yMargin: 20 }),
    });
  }, [goTo]);

  return <div className={styles.editor} ref={holder} />;
}
