import { Alert, Badge, Button, Checkbox, Code, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { type DraftReview, fetchPublishing, fetchReview, publish, type PublishingState } from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { Changes } from './Changes';
import { History } from './History';
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
