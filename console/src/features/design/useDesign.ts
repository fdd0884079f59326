import { undo, redo } from '@codemirror/commands';
import type { EditorView } from '@codemirror/view';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useRef, useState } from 'react';
import type { DesignAnswer } from '../../api/client';
import { type Change, fetchDesign } from '../../api/design';
import { putText } from '../draft/Editor';
import { useDraftFile } from '../draft/useDraftFile';

/**
 * A service file that is changed by forms and by its text at once. The editor holds the text, so both share one undo; a form's change goes
 * to the service, which gives back the text with it.
 */
export function useDesign(service: string) {
  const file = `services/${service}.yaml`;
  const client = useQueryClient();
  const draft = useDraftFile(file);
  const editor = useRef<EditorView>(undefined);
  const [failure, setFailure] = useState<Error>();
  const [isChanging, setChanging] = useState(0);
  const [settled] = useDebouncedValue(draft.text, 300);
  const keyOf = (text: string) => ['draft', 'design', service, text];
  const design = useQuery({
    queryKey: keyOf(settled),
    queryFn: () => fetchDesign(service, settled),
    enabled: draft.stored.isSuccess || !!draft.mine,
    placeholderData: (former: DesignAnswer | undefined) => (former?.file === file ? former : undefined),
  });
  // What a change has brought is shown at once, so that the next one starts from it.
  const [changed, setChanged] = useState<DesignAnswer>();
  const newest = changed?.text === draft.text ? changed : design.data;
  // A text with a fault that hides the service leaves the forms as they were, and tells of the fault.
  const sound = useRef<DesignAnswer>(undefined);
  if (newest?.design?.service === service) sound.current = newest;
  const latest = useRef(draft.text);
  latest.current = draft.text;
  const queue = useRef<Promise<void>>(Promise.resolve());
  /** Changes are made one after the other, each in the text that the one before has left. */
  const change = (...changes: Change[]) => {
    setChanging((count) => count + 1);
    queue.current = queue.current
      .then(async () => {
        let sent = latest.current;
        let answer = await fetchDesign(service, sent, changes);
        // What was typed into the text in the meantime stays: the change is made in that text.
        while (sent !== latest.current) {
          sent = latest.current;
          answer = await fetchDesign(service, sent, changes);
        }
        client.setQueryData(keyOf(answer.text), answer);
        latest.current = answer.text;
        setChanged(answer);
        if (editor.current) putText(editor.current, answer.text);
        else draft.type(answer.text);
        setFailure(undefined);
      })
      .catch((error: Error) => setFailure(error))
      .finally(() => setChanging((count) => count - 1));
  };
  /** Brings a line of the text into view. */
  const show = useCallback((line: number) => {
    const view = editor.current;
    if (!view) return;
    const from = view.state.doc.line(Math.min(Math.max(line, 1), view.state.doc.lines)).from;
    // The text moves, and not the page around it.
    view.scrollDOM.scrollTop = view.lineBlockAt(from).top - 24;
  }, []);
  return {
    show,
    draft,
    answer: design,
    design: sound.current?.design,
    findings: newest?.findings ?? [],
    isPending: isChanging > 0 || (newest !== changed && (design.isFetching || settled !== draft.text)),
    isChanging: isChanging > 0,
    failure,
    change,
    takeEditor: (view: EditorView | undefined) => {
      editor.current = view;
    },
    undo: () => editor.current && undo(editor.current),
    redo: () => editor.current && redo(editor.current),
  };
}

export type Design = ReturnType<typeof useDesign>;
