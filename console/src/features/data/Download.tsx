import { Button, Text } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { fetchLines } from '../../api/client';

interface DownloadProps {
  /** A list of entities. */
  url: string;
  name: string;
}

/** Saves all entities of a list as JSON Lines. */
export function Download({ url, name }: DownloadProps) {
  const download = useMutation({
    mutationFn: () => fetchLines(url),
    onSuccess: ({ lines }) => {
      const link = document.createElement('a');
      link.href = URL.createObjectURL(lines);
      link.download = `${name}.jsonl`;
      link.click();
      URL.revokeObjectURL(link.href);
    },
  });
  return (
    <>
      {download.isError && (
        <Text size="xs" c="red" role="alert">
          {download.error.message}
        </Text>
      )}
      {download.data && !download.data.isWhole && (
        <Text size="xs" c="orange" role="alert">
          The file holds the first rows only. Filter, or use a client for the rest.
        </Text>
      )}
      <Button size="xs" variant="default" loading={download.isPending} onClick={() => download.mutate()}>
        Save as JSON Lines
      </Button>
    </>
  );
}
