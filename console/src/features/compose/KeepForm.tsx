import { Alert, Button, Checkbox, Group, Modal, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { keepExample, type SentAnswer } from '../../api/client';
import { ConflictError, fetchDraft, fetchDraftText, writeDraft } from '../../api/draft';
import { Failed } from '../../components/States';
import { requestText, withRequest } from './address';

interface KeepFormProps {
  method: string;
  target: string;
  as: string;
  headers: [string, string][];
  body: string;
  answer: SentAnswer;
  close: () => void;
}

/** Keeps a request in the workspace, with a comment and with what is expected of its answer. */
export function KeepForm({ method, target, as, headers, body, answer, close }: KeepFormProps) {
  const client = useQueryClient();
  const draft = useQuery({ queryKey: ['draft'], queryFn: fetchDraft });
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const [comment, setComment] = useState('');
  const [file, setFile] = useState(fileOf(target));
  const [expectations, setExpectations] = useState([`status ${answer.status}`]);
  const [isExample, setExample] = useState(false);
  const count = countOf(answer);
  const offers = [
    `status ${answer.status}`,
    ...(count === undefined ? [] : [`count ${count}`]),
    ...(answer.status === 200 && count !== undefined ? ['schema'] : []),
  ];
  const request = { name, title, comment, method, target, as, headers, body, expectations };
  const write = useMutation({
    mutationFn: async () => {
      const known = draft.data?.files.find((one) => one.file === file);
      const before = known ? await fetchDraftText(file) : undefined;
      await writeDraft(file, withRequest(before?.text ?? '', request), before?.version);
      await client.invalidateQueries({ queryKey: ['draft'] });
      await client.invalidateQueries({ queryKey: ['requests'] });
      return isExample ? keepExample({ name, madeUp: true }) : undefined;
    },
  });
  const isNamed = /^[A-Za-z0-9][\w-]*$/.test(name);
  return (
    <Modal opened onClose={close} title="Keep this request" size="lg" closeButtonProps={{ 'aria-label': 'Close' }}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          write.mutate();
        }}
      >
        <Stack gap="sm">
          <Group grow align="start">
            <TextInput
              label="Name"
              description="Letters, digits and dashes"
              value={name}
              onChange={(event) => setName(event.currentTarget.value)}
              error={name && !isNamed ? 'Letters, digits and dashes only' : undefined}
              data-autofocus
            />
            <TextInput
              label="File"
              description="In the workspace"
              value={file}
              onChange={(event) => setFile(event.currentTarget.value)}
            />
          </Group>
          <TextInput label="Title" value={title} onChange={(event) => setTitle(event.currentTarget.value)} />
          <Textarea
            label="Comment"
            autosize
            minRows={2}
            value={comment}
            onChange={(event) => setComment(event.currentTarget.value)}
          />
          <Checkbox.Group
            label="Expect of the answer"
            description="gable try, gable verify and the page of requests hold later answers to it"
            value={expectations}
            onChange={setExpectations}
          >
            <Group mt={4}>
              {offers.map((offer) => (
                <Checkbox key={offer} value={offer} label={offer} size="xs" />
              ))}
            </Group>
          </Checkbox.Group>
          {method === 'GET' && answer.status === 200 && (
            <Checkbox
              size="xs"
              label="Keep the answer with made-up values, as an example of the OpenAPI document"
              checked={isExample}
              onChange={(event) => setExample(event.currentTarget.checked)}
            />
          )}
          <pre className="request" aria-label="What is written">
            {requestText(request)}
          </pre>
          {draft.data?.isEditable === false && <Text size="sm">{draft.data.why}</Text>}
          {write.isError && (
            <Failed
              error={write.error}
              retry={write.error instanceof ConflictError ? () => write.mutate() : undefined}
            />
          )}
          {write.isSuccess ? (
            <Alert color="green" title="Kept" role="status">
              <Link to={`/requests?${new URLSearchParams({ name })}`}>Open it among the requests</Link>
            </Alert>
          ) : (
            <Group>
              <Button type="submit" disabled={!isNamed || draft.data?.isEditable !== true} loading={write.isPending}>
                Keep
              </Button>
            </Group>
          )}
        </Stack>
      </form>
    </Modal>
  );
}

/** The file of the service that an address is about. */
function fileOf(target: string): string {
  const service = /^\/[^/]+\/([a-z0-9][\w-]*)\//.exec(target)?.[1];
  return `requests/${service ?? 'requests'}.http`;
}

function countOf(answer: SentAnswer): number | undefined {
  try {
    const json = JSON.parse(answer.body ?? '') as { value?: unknown; rows?: unknown };
    const list = Array.isArray(json) ? json : (json.value ?? json.rows);
    return Array.isArray(list) ? list.length : undefined;
  } catch {
    return undefined;
  }
}
