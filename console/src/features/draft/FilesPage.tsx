import { Badge, Button, Group, Stack, Text, TextInput, Tooltip } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { CheckFinding } from '../../api/client';
import { checkTexts, fetchSchema } from '../../api/draft';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';
import { Editor } from './Editor';
import { Findings } from './Findings';
import { keepEdited, useEdited } from './store';
import { type DraftFile, useDraftFile, useDraftFiles } from './useDraftFile';
import { WriteButtons, WriteFaults } from './WriteBar';

/** The workspace's files, which are the draft: read, written, and checked while they are typed. */
export function FilesPage() {
  const [params] = useSearchParams();
  const draft = useDraftFiles();
  const edited = useEdited();
  if (draft.isPending) return <Pending what="the files" />;
  if (draft.isLoadingError) return <Failed error={draft.error} retry={draft.refetch} />;
  const names = draft.data.files.map((file) => file.file);
  const fresh = Object.keys(edited).filter((file) => !names.includes(file));
  const all = [...names, ...fresh].sort();
  const chosen = params.get('file') ?? all.find((file) => file.startsWith('services/')) ?? 'workspace.yaml';
  return (
    <>
      <Heading way={[]} title="Files">
        {draft.data.isEditable ? (
          <Text size="sm" c="dimmed">
            {Object.keys(edited).length === 0 ? 'All is written.' : `${Object.keys(edited).length} not written yet.`}
          </Text>
        ) : (
          <Badge tt="none" color="yellow" variant="light" size="lg">
            read only: {draft.data.why}
          </Badge>
        )}
      </Heading>
      <div className="split">
        <nav aria-label="Files of the workspace">
          {all.map((file) => (
            <Link
              key={file}
              to={`?${new URLSearchParams({ file })}`}
              className="file"
              aria-current={file === chosen ? 'page' : undefined}
            >
              {file}
              {edited[file] && (
                <Tooltip label="not written yet">
                  <span role="img" aria-label="not written yet">
                    {' ●'}
                  </span>
                </Tooltip>
              )}
            </Link>
          ))}
          {draft.data.isEditable && <NewFile taken={all} />}
        </nav>
        <FileView key={chosen} file={chosen} isKnown={names.includes(chosen)} />
      </div>
    </>
  );
}

function NewFile({ taken }: { taken: string[] }) {
  const [, setParams] = useSearchParams();
  const [name, setName] = useState('');
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        keepEdited(name, { text: '' });
        setParams({ file: name });
        setName('');
      }}
    >
      <Stack gap={4} mt="sm">
        <TextInput
          size="xs"
          label="New file"
          placeholder="services/rivers.yaml"
          value={name}
          onChange={(event) => setName(event.currentTarget.value.trim())}
          error={taken.includes(name) ? 'It is there already.' : undefined}
        />
        <Button size="xs" type="submit" variant="default" disabled={!name || taken.includes(name)}>
          Make
        </Button>
      </Stack>
    </form>
  );
}

interface FileViewProps {
  file: string;
  isKnown: boolean;
}

function FileView({ file, isKnown }: FileViewProps) {
  const draft = useDraftFile(file);
  if (!isKnown && !draft.mine) return <Text c="dimmed">There is no file {file}.</Text>;
  if (isKnown && draft.stored.isPending) return <Pending what={file} />;
  if (draft.stored.isLoadingError) return <Failed error={draft.stored.error} retry={draft.stored.refetch} />;
  return <TextView draft={draft} />;
}

/** The kind of file whose schema completes it. */
function kindOf(file: string): string {
  return file === 'workspace.yaml' ? 'workspace' : file.startsWith('sources/') ? 'source' : 'service';
}

function TextView({ draft }: { draft: DraftFile }) {
  const { file, text, mine, stored, theirs, remove } = draft;
  const kind = kindOf(file);
  const schema = useQuery({
    queryKey: ['schema', kind],
    queryFn: () => fetchSchema(kind),
    enabled: /\.ya?ml$/.test(file) && !file.startsWith('checks/'),
    staleTime: Infinity,
  });
  const [settled] = useDebouncedValue(text, 400);
  const check = useQuery({
    queryKey: ['draft', 'check', file, settled],
    queryFn: () => checkTexts({ [file]: settled }),
    placeholderData: (former: CheckFinding[] | undefined) => former,
  });
  const findings = useMemo(() => check.data ?? [], [check.data]);
  const here = useMemo(() => findings.filter((finding) => finding.file === file), [findings, file]);
  const service = /^services\/([^/]+)\.yaml$/.exec(file)?.[1];
  return (
    <Stack gap="xs" miw={0}>
      <Group justify="space-between">
        <Text fw={600}>{file}</Text>
        <WriteButtons draft={draft}>
          {service && (
            <Button size="xs" variant="subtle" component={Link} to={`/design/${service}`}>
              Change by forms
            </Button>
          )}
          {stored.data && !mine && file !== 'workspace.yaml' && (
            <Button size="xs" variant="subtle" color="red" loading={remove.isPending} onClick={() => remove.mutate()}>
              Remove file
            </Button>
          )}
        </WriteButtons>
      </Group>
      <WriteFaults draft={draft} />
      <Editor
        file={file}
        text={text}
        schema={schema.data}
        findings={here}
        isEditable={draft.isEditable}
        change={draft.type}
        save={() => mine && !theirs && draft.write.mutate(undefined)}
      />
      <Findings findings={findings} file={file} isPending={check.isFetching} />
    </Stack>
  );
}
