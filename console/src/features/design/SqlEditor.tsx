import { type SQLNamespace, sql } from '@codemirror/lang-sql';
import { EditorView } from '@codemirror/view';
import { useComputedColorScheme } from '@mantine/core';
import CodeMirror from '@uiw/react-codemirror';
import { useMemo } from 'react';

interface SqlEditorProps {
  label: string;
  text: string;
  /** Tables and views with their columns, for completion. */
  names: Record<string, string[]>;
  isEditable: boolean;
  change: (text: string) => void;
  /** Is called when the editor is left. */
  settle: () => void;
}

/** A statement with the names of the catalog. */
export function SqlEditor({ label, text, names, isEditable, change, settle }: SqlEditorProps) {
  const scheme = useComputedColorScheme('light');
  const extensions = useMemo(
    () => [
      sql({ schema: names as SQLNamespace, upperCaseKeywords: true }),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
    ],
    [names, label],
  );
  return (
    <CodeMirror
      className="sql-editor"
      value={text}
      theme={scheme}
      minHeight="110px"
      maxHeight="340px"
      readOnly={!isEditable}
      extensions={extensions}
      onChange={change}
      onBlur={settle}
      basicSetup={{ foldGutter: false, lineNumbers: true }}
    />
  );
}
