import { Alert, Badge, Button, Checkbox, Code, Group, Stack, Table, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import {
  type DraftReview,
  fetchPublishing,
  fetchReview,
  goBack,
  publish,
  RequestError,
  type PublishingState,
  type ReviewedService,
  type RevisionInfo,
} from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { Switches } from './Switches';

/** What is published, what the files would change, the history, and what is switched off. */
export function PublishingPage() {
  const state = useQuery({ queryKey: ['publishing'], queryFn: fetchPublishing });
  return (
    <>
      <Heading way={[]} title="Publishing">
        {state.data && <Serving state={state.data} />}
      </Heading>
      {state.isPending && <Pending what="what is published" />}
      {state.isError && <Failed error={state.error} retry={state.refetch} />}
      {state.data && (
        <Stack gap="lg">
          <Drift state={state.data} />
          <DraftSection />
          <History revisions={state.data.revisions} />
          <Switches off={state.data.off} />
        </Stack>
      )}
    </>
  );
}

function Serving({ state }: { state: PublishingState }) {
  return state.serves === undefined ? (
    <Text size="sm" c="dimmed">
      This service follows the files; 'gable serve --published' serves revisions.
    </Text>
  ) : (
    <Badge tt="none" size="lg" variant="light">
      serving revision {state.serves}
    </Badge>
  );
}

function Drift({ state }: { state: PublishingState }) {
  if (state.drift.length === 0) return null;
  return (
    <Alert color="red" title="A database has moved away from what is published" role="alert">
      {state.drift.map((drift) => (
        <Text key={`${drift.service} ${drift.text}`} size="sm">
          {drift.service}: {drift.text}
          {drift.affected.length > 0 && ` – affects ${drift.affected.join(', ')}`}
        </Text>
      ))}
    </Alert>
  );
}

function DraftSection() {
  const review = useQuery({ queryKey: ['publishing', 'review'], queryFn: fetchReview });
  return (
    <section aria-label="Draft">
      <Group justify="space-between" mb="xs">
        <Title order={3} size="h4">
          The files, compared
        </Title>
        <Button size="xs" variant="default" loading={review.isFetching} onClick={() => void review.refetch()}>
          Look again
        </Button>
      </Group>
      {review.isPending && <Pending what="the files" />}
      {review.isError && <Failed error={review.error} retry={review.refetch} />}
      {review.data && <Review review={review.data} />}
    </section>
  );
}

function Review({ review }: { review: DraftReview }) {
  const faults = review.findings.filter((finding) => finding.severity === 'error');
  const isSame = review.services.length === 0 && review.settings.length === 0;
  if (faults.length > 0)
    return (
      <Alert color="red" title="The files have faults and cannot be published">
        {faults.map((fault) => (
          <Text key={`${fault.file} ${fault.line} ${fault.message}`} size="sm">
            {fault.file}
            {fault.line && `:${fault.line}`}: {fault.message}
          </Text>
        ))}
      </Alert>
    );
  if (isSame && review.basedOn > 0)
    return <Empty>The files say what revision {review.basedOn} says. Change them, and look again.</Empty>;
  return (
    <Stack gap="sm">
      <Text size="sm" c="dimmed">
        {review.basedOn === 0 ? 'Nothing was published yet.' : `Since revision ${review.basedOn}:`}
      </Text>
      {review.services.map((service) => (
        <Changes key={service.name} service={service} isFirst={review.basedOn === 0} />
      ))}
      {review.settings.map((setting) => (
        <Text key={setting} size="sm">
          {setting}
        </Text>
      ))}
      <Lacks review={review} />
      <PublishForm review={review} />
    </Stack>
  );
}

/** Indexes that requests would need, each with the statement that makes it. */
function Lacks({ review }: { review: DraftReview }) {
  const lacks = review.findings.filter((finding) => finding.code === 'no-index');
  if (lacks.length === 0) return null;
  return (
    <div>
      <Text fw={600}>The database lacks</Text>
      {lacks.map((lack) => (
        <Text key={lack.advice} size="sm">
          <Code>{lack.advice}</Code> {lack.message}
        </Text>
      ))}
    </div>
  );
}

const words = { new: 'is new', gone: 'is gone: requests to it answer 404', changed: '' };

function Changes({ service, isFirst }: { service: ReviewedService; isFirst: boolean }) {
  return (
    <div>
      <Text fw={600}>
        {service.name} {words[service.change]}
      </Text>
      {service.differences.map((difference) => (
        <Text key={difference} size="sm">
          {difference}
        </Text>
      ))}
      {service.faces.flatMap((face) =>
        face.changes.map((change) => (
          <Group key={`${face.face} ${change.subject} ${change.what}`} gap="xs" wrap="nowrap" align="start" mt={2}>
            <Badge
              tt="none"
              color={change.isBreaking ? 'red' : 'green'}
              variant="light"
              miw={78}
              style={{ flexShrink: 0 }}
            >
              {change.isBreaking ? 'breaks' : 'adds'}
            </Badge>
            <Text size="sm">
              {face.face}: {change.subject}: {change.what}
              {change.isBreaking && (
                <Text span c="dimmed" size="sm">
                  {' '}
                  – {change.meaning}
                </Text>
              )}
            </Text>
          </Group>
        )),
      )}
      {!isFirst &&
        service.opened.map((text) => (
          <Group key={text} gap="xs" wrap="nowrap" mt={2}>
            <Badge tt="none" color="yellow" variant="light" miw={78} style={{ flexShrink: 0 }}>
              opens
            </Badge>
            <Text size="sm">{text}</Text>
          </Group>
        ))}
    </div>
  );
}

function PublishForm({ review }: { review: DraftReview }) {
  const client = useQueryClient();
  const [message, setMessage] = useState('');
  const [breaking, setBreaking] = useState(false);
  const [opened, setOpened] = useState(false);
  const isLater = review.basedOn > 0;
  const breaks =
    isLater &&
    review.services.some(
      (service) => service.change === 'gone' || service.faces.some((face) => face.changes.some((c) => c.isBreaking)),
    );
  const opens = isLater && review.services.some((service) => service.opened.length > 0);
  const send = useMutation({
    mutationFn: () => publish({ message, allowBreaking: breaking, allowOpened: opened, basedOn: review.basedOn }),
    onSuccess: () => setMessage(''),
    onSettled: () => client.invalidateQueries({ queryKey: ['publishing'] }),
  });
  const isAgreed = (!breaks || breaking) && (!opens || opened);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        send.mutate();
      }}
    >
      <Stack gap="xs" maw={640}>
        {breaks && (
          <Checkbox
            label="Consumers may break"
            checked={breaking}
            onChange={(event) => setBreaking(event.currentTarget.checked)}
          />
        )}
        {opens && (
          <Checkbox
            label="More becomes visible or possible"
            checked={opened}
            onChange={(event) => setOpened(event.currentTarget.checked)}
          />
        )}
        <Group align="end" gap="xs">
          <TextInput
            label="Why"
            placeholder="in a few words"
            value={message}
            maxLength={2000}
            onChange={(event) => setMessage(event.currentTarget.value)}
            style={{ flex: 1 }}
          />
          <Button type="submit" loading={send.isPending} disabled={!isAgreed || message.trim() === ''}>
            Publish
          </Button>
        </Group>
        {send.isError && <Failed error={send.error} />}
      </Stack>
    </form>
  );
}

function History({ revisions }: { revisions: RevisionInfo[] }) {
  return (
    <section aria-label="History">
      <Title order={3} size="h4" mb="xs">
        History
      </Title>
      {revisions.length === 0 && <Empty>There is no revision yet. Publish the files to make the first one.</Empty>}
      {revisions.length > 0 && (
        <Table.ScrollContainer minWidth={760}>
          <Table verticalSpacing={4} aria-label="Revisions">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Revision</Table.Th>
                <Table.Th>Published (UTC)</Table.Th>
                <Table.Th>By</Table.Th>
                <Table.Th>Message</Table.Th>
                <Table.Th>Changes</Table.Th>
                <Table.Th>Kept until</Table.Th>
                <Table.Th />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {revisions.map((revision, index) => (
                <Revision key={revision.number} revision={revision} isNewest={index === 0} />
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
    </section>
  );
}

function Revision({ revision, isNewest }: { revision: RevisionInfo; isNewest: boolean }) {
  const client = useQueryClient();
  const back = useMutation({
    mutationFn: (isAgreed: boolean) => goBack(revision.number, isAgreed),
    onSettled: () => client.invalidateQueries({ queryKey: ['publishing'] }),
  });
  return (
    <Table.Tr>
      <Table.Td>{revision.number}</Table.Td>
      <Table.Td style={{ whiteSpace: 'nowrap' }}>{revision.at.slice(0, 16).replace('T', ' ')}</Table.Td>
      <Table.Td>{revision.by}</Table.Td>
      <Table.Td>{revision.message}</Table.Td>
      <Table.Td title={revision.changes.join('\n')}>
        <Group gap={4}>
          {revision.backTo !== undefined && <Text size="sm">back to {revision.backTo}</Text>}
          {revision.breaking.length > 0 && (
            <Badge tt="none" color="red" variant="light">
              breaks {revision.breaking.length}
            </Badge>
          )}
          {revision.opened.length > 0 && (
            <Badge tt="none" color="yellow" variant="light">
              opens {revision.opened.length}
            </Badge>
          )}
          <Text size="sm">{revision.changes.length === 1 ? '1 change' : `${revision.changes.length} changes`}</Text>
        </Group>
      </Table.Td>
      <Table.Td>{isNewest ? 'it is the newest' : (revision.keptUntil?.slice(0, 10) ?? 'for good')}</Table.Td>
      <Table.Td>
        {!isNewest && (
          <Button size="compact-xs" variant="default" loading={back.isPending} onClick={() => back.mutate(false)}>
            Go back to {revision.number}
          </Button>
        )}
        {back.isError && (
          <>
            <Failed error={back.error} />
            {back.error instanceof RequestError && back.error.status === 409 && (
              <Button size="compact-xs" color="red" variant="light" onClick={() => back.mutate(true)}>
                Agree, and go back
              </Button>
            )}
          </>
        )}
      </Table.Td>
    </Table.Tr>
  );
}
