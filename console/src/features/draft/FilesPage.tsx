import { Alert, Badge, Button, Group, Stack, Text, TextInput, Tooltip } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { CheckFinding, DraftText } from '../../api/client';
import {
  checkTexts,
  ConflictError,
  fetchDraft,
  fetchDraftText,
  fetchSchema,
  removeDraft,
  writeDraft,
} from '../../api/draft';
import { Difference } from '../../components/Difference';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';
import { differenceOf } from './difference';
import { Editor } from './Editor';
import { type Edited, forgetEdited, keepEdited, useEdited } from './store';

/** How often the list of files is asked for, so that what others write is noticed. */
const lookEvery = 5_000;

/** The workspace's files, which are the draft: read, written, and checked while they are typed. */
export function FilesPage() {
  const [params] = useSearchParams();
  const draft = useQuery({ queryKey: ['draft'], queryFn: fetchDraft, refetchInterval: lookEvery });
  const edited = useEdited();
  if (draft.isPending) return <Pending what="the files" />;
  if (draft.isError) return <Failed error={draft.error} retry={draft.refetch} />;
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
        <FileView
          key={chosen}
          file={chosen}
          isKnown={names.includes(chosen)}
          isEditable={draft.data.isEditable}
          version={draft.data.files.find((file) => file.file === chosen)?.version}
        />
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
  isEditable: boolean;
  /** The version on the disk, as it was seen last. */
  version?: string;
}

function FileView({ file, isKnown, isEditable, version }: FileViewProps) {
  const stored = useQuery({
    queryKey: ['draft', file, version],
    queryFn: () => fetchDraftText(file),
    enabled: isKnown,
    placeholderData: (former: DraftText | undefined) => former,
  });
  const mine = useEdited()[file];
  if (!isKnown && !mine) return <Text c="dimmed">There is no file {file}.</Text>;
  if (isKnown && stored.isPending) return <Pending what={file} />;
  if (stored.isError) return <Failed error={stored.error} retry={stored.refetch} />;
  return <TextView file={file} stored={stored.data} mine={mine} isEditable={isEditable} />;
}

interface TextViewProps {
  file: string;
  stored?: DraftText;
  mine?: Edited;
  isEditable: boolean;
}

function TextView({ file, stored, mine, isEditable }: TextViewProps) {
  const client = useQueryClient();
  const text = mine?.text ?? stored?.text ?? '';
  const kind = file === 'workspace.yaml' ? 'workspace' : file.startsWith('sources/') ? 'source' : 'service';
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
  const settle = async () => {
    await client.invalidateQueries({ queryKey: ['draft'] });
    await client.invalidateQueries({ queryKey: ['services'] });
  };
  const write = useMutation({
    mutationFn: (over?: { version?: string }) => writeDraft(file, text, over ? over.version : mine?.version),
    onSuccess: (written) => {
      client.setQueryData(['draft', file, written.version], written);
      forgetEdited(file);
      return settle();
    },
  });
  const remove = useMutation({
    mutationFn: () => removeDraft(file, stored?.version ?? ''),
    onSuccess: () => {
      forgetEdited(file);
      return settle();
    },
  });
  // What others wrote while this text was changed.
  const theirs = mine && stored && stored.version !== mine.version ? stored : undefined;
  const findings = useMemo(() => check.data ?? [], [check.data]);
  const here = useMemo(() => findings.filter((finding) => finding.file === file), [findings, file]);
  const type = (next: string) =>
    next === stored?.text
      ? forgetEdited(file)
      : keepEdited(file, { text: next, version: mine?.version ?? stored?.version });
  return (
    <Stack gap="xs" miw={0}>
      <Group justify="space-between">
        <Text fw={600}>{file}</Text>
        {isEditable && (
          <Group gap="xs">
            {stored && !mine && file !== 'workspace.yaml' && (
              <Button size="xs" variant="subtle" color="red" loading={remove.isPending} onClick={() => remove.mutate()}>
                Remove file
              </Button>
            )}
            <Button size="xs" variant="default" disabled={!mine} onClick={() => forgetEdited(file)}>
              Discard changes
            </Button>
            <Button
              size="xs"
              disabled={!mine || !!theirs}
              loading={write.isPending}
              onClick={() => write.mutate(undefined)}
            >
              Write
            </Button>
          </Group>
        )}
      </Group>
      {theirs && (
        <Alert color="yellow" title="Somebody else changed this file" role="alert">
          <Difference lines={differenceOf(theirs.text, text)} label="From theirs to yours" />
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
      <Editor
        file={file}
        text={text}
        schema={schema.data}
        findings={here}
        isEditable={isEditable}
        change={type}
        save={() => mine && !theirs && write.mutate(undefined)}
      />
      <Findings findings={findings} file={file} isPending={check.isFetching} />
    </Stack>
  );
}

function Findings({ findings, file, isPending }: { findings: CheckFinding[]; file: string; isPending: boolean }) {
  const errors = findings.filter((finding) => finding.severity === 'error');
  const others = [...errors, ...findings.filter((finding) => finding.severity !== 'error')];
  return (
    <section aria-label="Findings" aria-live="polite">
      <Text size="sm" c="dimmed">
        {isPending
          ? 'checking …'
          : findings.length === 0
            ? 'No faults.'
            : `${errors.length} faults, ${findings.length - errors.length} warnings`}
      </Text>
      {others.slice(0, 50).map((finding) => (
        <Group key={`${finding.file} ${finding.line} ${finding.message}`} gap="xs" wrap="nowrap" align="start">
          <Badge
            tt="none"
            variant="light"
            color={finding.severity === 'error' ? 'red' : 'yellow'}
            style={{ flexShrink: 0 }}
          >
            {finding.severity === 'error' ? 'fault' : 'warning'}
          </Badge>
          <Text size="sm">
            {finding.file !== file ? (
              <Link to={`?${new URLSearchParams({ file: finding.file })}`}>
                {finding.file}:{finding.line}
              </Link>
            ) : (
              finding.line && `line ${finding.line}`
            )}{' '}
            {finding.message}{' '}
            {finding.advice && (
              <Text span size="sm" c="dimmed">
                {finding.advice}
              </Text>
            )}
          </Text>
        </Group>
      ))}
    </section>
  );
}
