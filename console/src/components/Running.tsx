import { Button, Group, Loader, Text } from '@mantine/core';
import type { Progress } from '../api/useProgress';
import { Failed } from './States';

/** A button for work that takes a while; while it runs, how far it is and a way to end it. */
export function Running({ label, work, isDisabled }: { label: string; work: Progress<unknown>; isDisabled?: boolean }) {
  return (
    <>
      {work.state === undefined ? (
        <Button size="xs" variant="default" disabled={isDisabled} onClick={work.run}>
          {label}
        </Button>
      ) : (
        <Group gap="xs" role="status">
          <Loader size="xs" />
          <Text size="sm">{work.state === '…' ? 'reading …' : work.state}</Text>
          <Button size="compact-xs" variant="default" onClick={work.cancel}>
            Cancel
          </Button>
        </Group>
      )}
      {work.error && <Failed error={work.error} />}
    </>
  );
}
