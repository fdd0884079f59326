import { Alert, Button, Group } from '@mantine/core';
import type { ReactNode } from 'react';
import { ConflictError } from '../../api/draft';
import { Difference } from '../../components/Difference';
import { Failed } from '../../components/States';
import { differenceOf } from './difference';
import { forgetEdited } from './store';
import type { DraftFile } from './useDraftFile';

/** Writes a changed file, or forgets the changes. */
export function WriteButtons({ draft, children }: { draft: DraftFile; children?: ReactNode }) {
  const { mine, theirs, write } = draft;
  if (!draft.isEditable) return null;
  return (
    <Group gap="xs">
      {children}
      <Button size="xs" variant="default" disabled={!mine} onClick={draft.discard}>
        Discard changes
      </Button>
      <Button size="xs" disabled={!mine || !!theirs} loading={write.isPending} onClick={() => write.mutate(undefined)}>
        Write
      </Button>
    </Group>
  );
}

/** What somebody else wrote in the meantime, and what went wrong with writing. */
export function WriteFaults({ draft }: { draft: DraftFile }) {
  const { file, theirs, write, remove } = draft;
  return (
    <>
      {theirs && (
        <Alert color="yellow" title="Somebody else changed this file" role="alert">
          <Difference lines={differenceOf(theirs.text, draft.text)} label="From theirs to yours" />
          <Group gap="xs" mt="xs">
            <Button size="xs" variant="default" onClick={() => forgetEdited(file)}>
              Take theirs
            </Button>
            <Button size="xs" variant="default" onClick={() => write.mutate({ version: theirs.version })}>
              Write mine over it
            </Button>
          </Group>
        </Alert>
      )}
      {write.isError && !(write.error instanceof ConflictError && theirs) && <Failed error={write.error} />}
      {remove.isError && <Failed error={remove.error} />}
    </>
  );
}
