import '@xyflow/react/dist/style.css';
import { Text, useComputedColorScheme } from '@mantine/core';
import { IconKey } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { Background, Controls, type Edge, Handle, MarkerType, type Node, Position, ReactFlow } from '@xyflow/react';
import { useMemo } from 'react';
import { useNavigate } from 'react-router';
import type { RelatedObject, RelatedObjects } from '../../api/client';
import { fetchRelated } from '../../api/sources';
import { Empty, Failed, Pending } from '../../components/States';
import { placesOf } from './places';

interface RelationsPictureProps {
  source: string;
  names: string[];
  /** Also what they refer to, and what refers to them. */
  isAround: boolean;
}

type Box = Node<{ object: RelatedObject; isNamed: boolean }, 'object'>;

const kinds = { object: ObjectBox };

/** Tables and views as boxes, foreign keys as arrows. The same stands below it in words. */
export function RelationsPicture({ source, names, isAround }: RelationsPictureProps) {
  const scheme = useComputedColorScheme('light');
  const go = useNavigate();
  const related = useQuery({
    queryKey: ['related', source, names, isAround],
    queryFn: () => fetchRelated(source, names, isAround),
  });
  const { nodes, edges } = useMemo(() => pictureOf(related.data, names), [related.data, names]);
  if (related.isPending) return <Pending what="the relations" />;
  if (related.isError) return <Failed error={related.error} retry={related.refetch} />;
  if (related.data.ties.length === 0)
    return <Empty>No foreign key leads from here, and none leads here. Relations can be declared with a set.</Empty>;
  return (
    <>
      <div className="picture" role="group" aria-label="Picture of the relations">
        <ReactFlow<Box>
          nodes={nodes}
          edges={edges}
          nodeTypes={kinds}
          colorMode={scheme}
          fitView
          fitViewOptions={{ maxZoom: 1, padding: 0.1 }}
          minZoom={0.1}
          nodesConnectable={false}
          nodesDraggable
          onNodeDoubleClick={(_, node) =>
            void go(`/sources?${new URLSearchParams({ source, object: node.id, tab: 'relations' })}`)
          }
          proOptions={{ hideAttribution: false }}
        >
          <Background />
          <Controls showInteractive={false} />
        </ReactFlow>
      </div>
      {related.data.isCut && (
        <Text size="sm">There are more than can be shown here; the first {related.data.objects.length} are.</Text>
      )}
      <ul className="effects" aria-label="Relations in words">
        {related.data.ties.map((tie) => (
          <li key={`${tie.from} ${tie.columns.join()} ${tie.to}`}>
            <Text size="sm">
              {tie.from}.{tie.columns.join(', ')} refers to {tie.to}.{tie.targetColumns.join(', ')}
            </Text>
          </li>
        ))}
      </ul>
    </>
  );
}

function ObjectBox({ data }: { data: { object: RelatedObject; isNamed: boolean } }) {
  const { object, isNamed } = data;
  return (
    <div className="box" data-named={isNamed || undefined}>
      <Handle type="target" position={Position.Right} isConnectable={false} />
      <Handle type="source" position={Position.Left} isConnectable={false} />
      <div className="box-head">
        <bdi>{object.name}</bdi>
        {object.isPublished && <span className="box-note">published</span>}
      </div>
      {object.columns.map((column) => (
        <div key={column} className="box-column">
          {object.key.includes(column) && <IconKey size={11} role="img" aria-label="key" />} <bdi>{column}</bdi>
        </div>
      ))}
    </div>
  );
}

function pictureOf(related: RelatedObjects | undefined, names: string[]): { nodes: Box[]; edges: Edge[] } {
  if (!related) return { nodes: [], edges: [] };
  const places = placesOf(related);
  return {
    nodes: related.objects.map((object) => ({
      id: object.name,
      type: 'object',
      position: places.get(object.name) ?? { x: 0, y: 0 },
      data: { object, isNamed: names.includes(object.name) },
      ariaLabel: `${object.kind} ${object.name}`,
    })),
    edges: related.ties.map((tie, at) => ({
      id: String(at),
      source: tie.from,
      target: tie.to,
      label: tie.columns.join(', '),
      markerEnd: { type: MarkerType.ArrowClosed },
    })),
  };
}
