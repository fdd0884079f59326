import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useRef } from 'react';
import type { DraftText } from '../../api/client';
import { fetchDraft, fetchDraftText, removeDraft, writeDraft } from '../../api/draft';
import { forgetEdited, keepEdited, latestEdited, useEdited } from './store';

/** How often the list of files is asked for, so that what others write is noticed. */
const lookEvery = 5_000;

export function useDraftFiles() {
  return useQuery({ queryKey: ['draft'], queryFn: fetchDraft, refetchInterval: lookEvery });
}

/** A file of the draft: its text as it is written and as it is being changed, and what can be done with both. */
export function useDraftFile(file: string) {
  const client = useQueryClient();
  const files = useDraftFiles();
  const known = files.data?.files.find((one) => one.file === file);
  const stored = useQuery({
    queryKey: ['draft', file, known?.version],
    queryFn: () => fetchDraftText(file),
    enabled: !!known,
    placeholderData: (former: DraftText | undefined) => (former?.file === file ? former : undefined),
  });
  const mine = useEdited()[file];
  const settled = async () => {
    await client.invalidateQueries({ queryKey: ['draft'] });
    await client.invalidateQueries({ queryKey: ['services'] });
    await client.invalidateQueries({ queryKey: ['service'] });
  };
  const text = mine?.text ?? stored.data?.text ?? '';
  const onDisk = useRef(stored.data);
  onDisk.current = stored.data;
  const write = useMutation({
    mutationFn: (over?: { version?: string }) => {
      const now = latestEdited(file);
      return writeDraft(file, now?.text ?? text, over ? over.version : now?.version);
    },
    onSuccess: (written) => {
      client.setQueryData(['draft', file, written.version], written);
      // What was typed while it was being written stays.
      if (latestEdited(file)?.text === written.text) forgetEdited(file);
      else keepEdited(file, { text: latestEdited(file)?.text ?? written.text, version: written.version });
      return settled();
    },
  });
  const remove = useMutation({
    mutationFn: () => removeDraft(file, stored.data?.version ?? ''),
    onSuccess: () => {
      forgetEdited(file);
      return settled();
    },
  });
  return {
    file,
    files,
    isKnown: !!known,
    isEditable: files.data?.isEditable ?? false,
    stored,
    mine,
    text,
    /** What others wrote while this text was changed. */
    theirs: mine && stored.data && stored.data.version !== mine.version ? stored.data : undefined,
    write,
    remove,
    discard: () => forgetEdited(file),
    /** Takes a text that somebody types, or a form makes. */
    type: (next: string) => {
      const disk = onDisk.current;
      if (next === disk?.text) forgetEdited(file);
      else keepEdited(file, { text: next, version: latestEdited(file)?.version ?? disk?.version });
    },
  };
}

export type DraftFile = ReturnType<typeof useDraftFile>;
