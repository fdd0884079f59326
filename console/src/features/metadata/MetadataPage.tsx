import { Button, Group, Text, useComputedColorScheme } from '@mantine/core';
import { unfoldAll } from '@codemirror/language';
import { xml } from '@codemirror/lang-xml';
import { EditorView } from '@codemirror/view';
import { useQuery } from '@tanstack/react-query';
import CodeMirror, { type ReactCodeMirrorRef } from '@uiw/react-codemirror';
import { useMemo, useRef } from 'react';
import { useParams } from 'react-router';
import { fetchMetadata, fetchService, odataOf } from '../../api/client';
import { foldTypes } from './folding';
import { Address } from '../../components/Address';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';

/** The metadata document as it is served, to read, search and fold. */
export function MetadataPage() {
  const { service = '' } = useParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  const root = details.data && odataOf(details.data);
  const metadata = useQuery({
    queryKey: ['metadata', root],
    queryFn: () => fetchMetadata(root ?? ''),
    enabled: root !== undefined,
  });
  const scheme = useComputedColorScheme('light');
  const editor = useRef<ReactCodeMirrorRef>(null);
  const extensions = useMemo(
    () => [xml(), EditorView.lineWrapping, EditorView.contentAttributes.of({ 'aria-label': 'Metadata document' })],
    [],
  );
  const error = details.error ?? metadata.error;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: details.data?.title ?? service, to: `/services/${service}` },
        ]}
        title="Metadata document"
      >
        <Group gap="xs">
          <Button size="xs" variant="default" onClick={() => editor.current?.view && foldTypes(editor.current.view)}>
            Fold types
          </Button>
          <Button size="xs" variant="default" onClick={() => editor.current?.view && unfoldAll(editor.current.view)}>
            Unfold all
          </Button>
        </Group>
      </Heading>
      {root && <Address url={`${root}$metadata`} label="the address of the metadata document" />}
      {error && <Failed error={error} retry={metadata.refetch} />}
      {!error && !metadata.data && <Pending what="the metadata document" />}
      {metadata.data && (
        <>
          <Text size="sm" c="dimmed" my={6}>
            {metadata.data.split('\n').length} lines. Fold with the arrows beside the numbers; search with Ctrl+F.
          </Text>
          <CodeMirror
            ref={editor}
            value={metadata.data}
            readOnly
            theme={scheme}
            height="calc(100vh - 230px)"
            extensions={extensions}
            basicSetup={{ highlightActiveLine: false }}
          />
        </>
      )}
    </>
  );
}
