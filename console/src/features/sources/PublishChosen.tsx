import { Alert, Autocomplete, Button, Checkbox, Group, Modal, Stack, Text } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { fetchServices } from '../../api/client';
import { chooseObjects, ConflictError, fetchDraft, fetchDraftText, writeDraft } from '../../api/draft';
import { Difference } from '../../components/Difference';
import { Failed } from '../../components/States';
import { differenceOf } from '../draft/difference';
import { ChosenSets } from './ChosenSets';

interface PublishChosenProps {
  source: string;
  objects: string[];
  close: () => void;
  done: () => void;
}

/** Makes sets of the tables and views that were ticked: the lines are shown first, and written when they are agreed to. */
export function PublishChosen({ source, objects, close, done }: PublishChosenProps) {
  const client = useQueryClient();
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  const draft = useQuery({ queryKey: ['draft'], queryFn: fetchDraft });
  const [service, setService] = useState('');
  const [withReferred, setWithReferred] = useState(false);
  // The text with what was changed in the grid.
  const [text, setText] = useState('');
  const look = useMutation({
    mutationFn: async () => {
      const chosen = await chooseObjects(service, source, objects, withReferred);
      const before = chosen.version ? (await fetchDraftText(chosen.file)).text : '';
      return { ...chosen, before };
    },
    onSuccess: (chosen) => setText(chosen.text),
  });
  const write = useMutation({
    mutationFn: () => {
      const made = look.data;
      return made ? writeDraft(made.file, text, made.version) : Promise.reject(new Error('Nothing was looked at.'));
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['draft'] });
      await client.invalidateQueries({ queryKey: ['services'] });
      await client.invalidateQueries({ queryKey: ['sources'] });
    },
  });
  const what = objects.length === 1 ? '1 table or view' : `${objects.length} tables and views`;
  const made = look.data;
  return (
    <Modal
      opened
      onClose={close}
      closeButtonProps={{ 'aria-label': 'Close' }}
      size="min(1100px, 96vw)"
      title={`Publish ${what} of ${source}`}
    >
      <Stack gap="sm">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            write.reset();
            look.mutate();
          }}
        >
          <Group align="end" gap="xs">
            <Autocomplete
              label="In the service"
              description="One that is there, or the name of a new one."
              data={services.data?.map((one) => one.name) ?? []}
              value={service}
              onChange={(value) => {
                setService(value);
                look.reset();
              }}
              w={260}
              data-autofocus
            />
            <Checkbox
              size="xs"
              mb={8}
              label="With everything that they refer to"
              checked={withReferred}
              onChange={(event) => {
                setWithReferred(event.currentTarget.checked);
                look.reset();
              }}
            />
            <Button type="submit" variant={made ? 'default' : 'filled'} disabled={!service} loading={look.isPending}>
              Show what is written
            </Button>
          </Group>
        </form>
        {look.isError && <Failed error={look.error} />}
        {made && (
          <>
            <Text size="sm">
              {made.file}: {made.added.length} added
              {made.known.length > 0 && `, ${made.known.length} there already`}
              {made.leftOut.length > 0 && `, ${made.leftOut.length} left out since they may hold secrets`}
              {made.hidden.length > 0 && `, ${made.hidden.length} columns hidden that look secret or personal`}.
            </Text>
            {made.refused.map((refused) => (
              <Text key={refused.name} size="sm" c="red">
                {refused.name} cannot be published: {refused.why}
              </Text>
            ))}
            <ChosenSets service={service} text={text} added={made.added} change={setText} />
            <Difference lines={differenceOf(made.before, text)} label={`Lines of ${made.file}`} />
            {!write.isSuccess && (
              <Group gap="xs">
                <Button
                  disabled={made.added.length === 0 || draft.data?.isEditable === false}
                  loading={write.isPending}
                  onClick={() => write.mutate()}
                >
                  Write
                </Button>
                {draft.data?.isEditable === false && <Text size="sm">{draft.data.why}</Text>}
              </Group>
            )}
          </>
        )}
        {write.isError && (
          <Failed error={write.error} retry={write.error instanceof ConflictError ? () => look.mutate() : undefined} />
        )}
        {write.isSuccess && made && (
          <Alert color="green" title="Written" role="status">
            <Group gap="md">
              <Link to={`/design/${service}`} onClick={done}>
                Go on with its design
              </Link>
              <Link to={`/services/${service}`} onClick={done}>
                Open the service
              </Link>
              <Link to={`/files?${new URLSearchParams({ file: made.file })}`} onClick={done}>
                Go on with its text
              </Link>
            </Group>
          </Alert>
        )}
      </Stack>
    </Modal>
  );
}
