import { Group, Text } from '@mantine/core';
import { exactJson, type Page } from '../../api/client';
import { Address } from '../../components/Address';

interface RequestShownProps {
  url: string;
  pageSize: number;
  page: Page | undefined;
  isFetching: boolean;
}

/** The exact request that was sent, and what it took. */
export function RequestShown({ url, pageSize, page, isFetching }: RequestShownProps) {
  return (
    <div className="request" role="group" aria-label="Request">
      <Group gap="xs" wrap="nowrap" align="baseline">
        <Text size="xs" fw={650}>
          GET
        </Text>
        <Address url={url} label="the request" />
      </Group>
      <Group justify="space-between">
        <Text size="xs" c="dimmed" className="address">
          Prefer: maxpagesize={pageSize} · OData-MaxVersion: 4.01 · Accept: {exactJson}
        </Text>
        <Text size="xs" c="dimmed">
          {isFetching
            ? 'asking …'
            : page
              ? `${page.milliseconds.toFixed(0)} ms, ${page.bytes.toLocaleString('en')} bytes`
              : ''}
        </Text>
      </Group>
    </div>
  );
}
