import { Alert, Button, Code, Group, Loader, Text } from '@mantine/core';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { RequestError } from '../api/client';

export function Pending({ what }: { what: string }) {
  return (
    <Group role="status" py="lg">
      <Loader size="sm" />
      <Text c="dimmed">Loading {what} …</Text>
    </Group>
  );
}

/** A failure, with the place in the request where there is one, and a way to try again. */
export function Failed({ error, retry }: { error: Error; retry?: () => void }) {
  const status = error instanceof RequestError ? error.status : 0;
  return (
    <Alert color="red" title={status > 0 ? `Refused with ${status}` : 'No answer'} role="alert" my="sm">
      <Text>{error.message}</Text>
      {error instanceof RequestError && error.pointer && (
        <Code block mt="xs">
          {error.pointer}
        </Code>
      )}
      {retry && (
        <Button mt="sm" size="xs" variant="default" onClick={retry}>
          Try again
        </Button>
      )}
    </Alert>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return (
    <Text c="dimmed" py="lg">
      {children}
    </Text>
  );
}

export function NotFound({ what }: { what: string }) {
  return (
    <Alert color="yellow" title={`There is no such ${what}`}>
      <Link to="/services">Back to the services</Link>
    </Alert>
  );
}
