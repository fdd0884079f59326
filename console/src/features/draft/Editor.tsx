import { isolateHistory } from '@codemirror/commands';
import { autocompletion } from '@codemirror/autocomplete';
import { yaml } from '@codemirror/lang-yaml';
import { type Diagnostic, linter } from '@codemirror/lint';
import { keymap, EditorView } from '@codemirror/view';
import { useComputedColorScheme } from '@mantine/core';
import CodeMirror from '@uiw/react-codemirror';
import { useEffect, useMemo, useRef } from 'react';
import type { CheckFinding } from '../../api/client';
import type { Schema } from '../../api/draft';
import { completer } from './completion';

interface EditorProps {
  file: string;
  text: string;
  schema?: Schema;
  /** Of this file. */
  findings: CheckFinding[];
  isEditable: boolean;
  change: (text: string) => void;
  save: () => void;
  /** Takes the editor itself, for changes that are made elsewhere and for undo. */
  take?: (view: EditorView | undefined) => void;
}

/** Puts a text into an editor as one step that can be undone; what is the same is left alone. */
export function putText(view: EditorView, text: string): void {
  const before = view.state.doc.toString();
  if (before === text) return;
  const [longest, shortest] = [Math.max(before.length, text.length), Math.min(before.length, text.length)];
  let start = 0;
  while (start < shortest && before[start] === text[start]) start++;
  let end = 0;
  while (end < shortest - start && before[before.length - 1 - end] === text[text.length - 1 - end]) end++;
  if (start === longest) return;
  view.dispatch({
    changes: { from: start, to: before.length - end, insert: text.slice(start, text.length - end) },
    annotations: isolateHistory.of('full'),
  });
}

/** A file's text with completion by its schema, and faults where they are made. */
export function Editor({ file, text, schema, findings, isEditable, change, save, take }: EditorProps) {
  const scheme = useComputedColorScheme('light');
  // The newest of each, so that a key that is pressed sets nothing up anew.
  const latest = useRef(save);
  useEffect(() => {
    latest.current = save;
  });
  const extensions = useMemo(
    () => [
      ...(/\.ya?ml$/.test(file) ? [yaml()] : []),
      EditorView.contentAttributes.of({ 'aria-label': `Text of ${file}`, tabindex: '0' }),
      autocompletion({ override: [completer(schema, [])] }),
      keymap.of([
        {
          key: 'Mod-s',
          run: () => {
            latest.current();
            return true;
          },
        },
      ]),
    ],
    [file, schema],
  );
  const marks = useMemo(
    () => linter((view) => findings.map((finding) => markOf(view, finding)), { delay: 0 }),
    [findings],
  );
  return (
    <CodeMirror
      className="editor"
      value={text}
      theme={scheme}
      height="100%"
      readOnly={!isEditable}
      extensions={[...extensions, marks]}
      onChange={change}
      onCreateEditor={take}
      basicSetup={{ autocompletion: false }}
    />
  );
}

function markOf(view: EditorView, finding: CheckFinding): Diagnostic {
  const line = view.state.doc.line(Math.min(finding.line ?? 1, view.state.doc.lines));
  const from = Math.min(line.from + Math.max(0, (finding.column ?? 1) - 1), line.to);
  const word = /^[\w-]+/.exec(line.text.slice(from - line.from))?.[0].length ?? line.to - from;
  return {
    from,
    to: from + word,
    severity: finding.severity === 'error' ? 'error' : 'warning',
    message: finding.message + (finding.advice ? `\n${finding.advice}` : ''),
  };
}
