import { Alert, Button, Center, Paper, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { signIn } from '../../api/client';

interface SignInPageProps {
  /** Whether there are administrators at all. */
  isRequired: boolean;
  /** What was typed before the session ended is still there, and stays. */
  goesOn?: boolean;
}

export function SignInPage({ isRequired, goesOn }: SignInPageProps) {
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const enter = useMutation({
    mutationFn: () => signIn(name, password),
    onSuccess: () => (goesOn ? client.invalidateQueries() : client.resetQueries()),
    onError: () => setPassword(''),
  });
  return (
    <Center component="main" mih="80vh" p="md">
      <title>Sign in · Rapid Gable</title>
      <Paper withBorder p="lg" w={380}>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            enter.mutate();
          }}
        >
          <Stack gap="sm">
            <Title order={1} size="h3">
              Rapid Gable
            </Title>
            <Text size="sm" c="dimmed">
              The console is for administrators. Callers of services need no account here.
            </Text>
            {goesOn && (
              <Alert color="yellow" title="The session has ended">
                Sign in again and go on: what you typed is still there.
              </Alert>
            )}
            {!isRequired && (
              <Alert color="cyan" title="There is no administrator yet">
                Open the link that “gable serve” printed. It is good once; the next one stands in the file
                “console-link” in the workspace’s folder.
              </Alert>
            )}
            {enter.isError && (
              <Alert color="red" role="alert">
                {enter.error.message}
              </Alert>
            )}
            <TextInput
              label="Name"
              autoComplete="username"
              value={name}
              onChange={(event) => setName(event.currentTarget.value)}
            />
            <PasswordInput
              label="Password, or a key"
              autoComplete="current-password"
              required
              value={password}
              onChange={(event) => setPassword(event.currentTarget.value)}
            />
            <Button type="submit" loading={enter.isPending}>
              Sign in
            </Button>
            <Text size="xs" c="dimmed">
              “gable administrator set WORKSPACE NAME” makes an administrator or gives another password.
            </Text>
          </Stack>
        </form>
      </Paper>
    </Center>
  );
}
