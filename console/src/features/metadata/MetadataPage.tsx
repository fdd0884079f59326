import { Button, Group, SegmentedControl, Text, useComputedColorScheme } from '@mantine/core';
import { foldAll, unfoldAll } from '@codemirror/language';
import { yaml } from '@codemirror/lang-yaml';
import { xml } from '@codemirror/lang-xml';
import { EditorView } from '@codemirror/view';
import { useQuery } from '@tanstack/react-query';
import CodeMirror, { type ReactCodeMirrorRef } from '@uiw/react-codemirror';
import { useMemo, useRef } from 'react';
import { useParams, useSearchParams } from 'react-router';
import { fetchDocument, fetchService, odataOf, restOf, type ServiceDetails } from '../../api/client';
import { foldTypes } from './folding';
import { Address } from '../../components/Address';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';

interface Document {
  name: string;
  label: string;
  url: string;
  isXml: boolean;
}

/** The documents that describe a service, on each face that it stands on. */
function documentsOf(service: ServiceDetails): Document[] {
  const [odata, rest] = [odataOf(service), restOf(service)];
  return [
    ...(odata
      ? [
          { name: 'xml', label: 'OData, XML', url: `${odata}$metadata`, isXml: true },
          { name: 'json', label: 'OData, JSON', url: `${odata}$metadata?$format=json`, isXml: false },
          { name: 'odata-openapi', label: 'OData, OpenAPI', url: `${odata}openapi.json`, isXml: false },
        ]
      : []),
    ...(rest ? [{ name: 'openapi', label: 'REST, OpenAPI', url: `${rest}openapi.json`, isXml: false }] : []),
  ];
}

/** The documents that describe a service, as they are served, to read, search and fold. */
export function MetadataPage() {
  const { service = '' } = useParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  const [search, setSearch] = useSearchParams();
  const documents = details.data ? documentsOf(details.data) : [];
  const chosen = documents.find((one) => one.name === search.get('document')) ?? documents[0];
  const metadata = useQuery({
    queryKey: ['metadata', chosen?.url],
    queryFn: () => fetchDocument(chosen?.url ?? '', chosen?.isXml ?? true),
    enabled: chosen !== undefined,
  });
  const isXml = chosen?.isXml ?? true;
  const fold = (view: EditorView) => (isXml ? foldTypes(view) : foldAll(view));
  const scheme = useComputedColorScheme('light');
  const editor = useRef<ReactCodeMirrorRef>(null);
  const extensions = useMemo(
    () => [
      isXml ? xml() : yaml(),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': 'Metadata document' }),
    ],
    [isXml],
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
          <Button size="xs" variant="default" onClick={() => editor.current?.view && fold(editor.current.view)}>
            {isXml ? 'Fold types' : 'Fold all'}
          </Button>
          <Button size="xs" variant="default" onClick={() => editor.current?.view && unfoldAll(editor.current.view)}>
            Unfold all
          </Button>
        </Group>
      </Heading>
      {chosen && (
        <Group gap="sm">
          <SegmentedControl
            size="xs"
            aria-label="Document"
            data={documents.map((one) => ({ value: one.name, label: one.label }))}
            value={chosen.name}
            onChange={(name) => setSearch({ document: name }, { replace: true })}
          />
          <Address url={chosen.url} label="the address of the metadata document" />
        </Group>
      )}
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
