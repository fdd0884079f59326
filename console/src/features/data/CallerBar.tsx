import { Button, Group, PasswordInput, Popover, Stack, Text, TextInput } from '@mantine/core';
import { useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { callAs } from '../../api/client';

let known = '';

/** Who asks the service from here. It is forgotten with the page, and has nothing to do with who manages. */
export function CallerBar() {
  const [caller, setCaller] = useState(known);
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState('');
  const [secret, setSecret] = useState('');
  const client = useQueryClient();
  const become = (who: string, word: string) => {
    callAs(who, word);
    known = word ? who || 'a key' : '';
    setCaller(known);
    setOpen(false);
    setSecret('');
    void client.resetQueries({ predicate: (query) => ['page', 'allowed'].includes(String(query.queryKey[0])) });
  };
  return (
    <Group gap="xs">
      <Text size="sm">{caller ? `Asked as ${caller}` : 'Asked anonymously'}</Text>
      <Popover opened={isOpen} onChange={setOpen} position="bottom-start" withArrow trapFocus>
        <Popover.Target>
          <Button size="compact-xs" variant="default" onClick={() => setOpen(!isOpen)}>
            Ask as …
          </Button>
        </Popover.Target>
        <Popover.Dropdown>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              become(name, secret);
            }}
          >
            <Stack gap="xs">
              <TextInput
                size="xs"
                label="User"
                value={name}
                onChange={(event) => setName(event.currentTarget.value)}
                autoComplete="off"
              />
              <PasswordInput
                size="xs"
                label="Password or key"
                value={secret}
                onChange={(event) => setSecret(event.currentTarget.value)}
                autoComplete="off"
                w={240}
              />
              <Group gap="xs">
                <Button size="xs" type="submit" disabled={!secret}>
                  Ask as this caller
                </Button>
                {caller && (
                  <Button size="xs" variant="default" onClick={() => become('', '')}>
                    As nobody
                  </Button>
                )}
              </Group>
            </Stack>
          </form>
        </Popover.Dropdown>
      </Popover>
    </Group>
  );
}
