import { ActionIcon, CopyButton, Group, Tooltip } from '@mantine/core';
import { IconCheck, IconCopy } from '@tabler/icons-react';

/** An address that can be opened and copied. */
export function Address({ url, label }: { url: string; label: string }) {
  return (
    <Group gap={6} wrap="nowrap">
      <a className="address" href={url}>
        {url}
      </a>
      <CopyButton value={url}>
        {({ copied, copy }) => (
          <Tooltip label={copied ? 'Copied' : 'Copy'} withArrow>
            <ActionIcon variant="subtle" size="sm" onClick={copy} aria-label={copied ? 'Copied' : `Copy ${label}`}>
              {copied ? <IconCheck size={15} /> : <IconCopy size={15} />}
            </ActionIcon>
          </Tooltip>
        )}
      </CopyButton>
    </Group>
  );
}
