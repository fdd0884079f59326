import type { RelatedObjects } from '../../api/client';

const columnWidth = 300;
const gap = 28;
const headHeight = 34;
const columnHeight = 19;

/** Where each object stands: what is referred to on the left, what refers to it on its right, from the top down. */
export function placesOf({ objects, ties }: RelatedObjects): Map<string, { x: number; y: number }> {
  const depths = depthsOf(
    objects.map((object) => object.name),
    ties,
  );
  const heights = new Map<number, number>();
  const places = new Map<string, { x: number; y: number }>();
  for (const object of objects) {
    const depth = depths.get(object.name) ?? 0;
    const y = heights.get(depth) ?? 0;
    places.set(object.name, { x: depth * columnWidth, y });
    heights.set(depth, y + headHeight + object.columns.length * columnHeight + gap);
  }
  return places;
}

/** How many foreign keys lead from each to what refers to nothing; a ring counts each of its members once. */
export function depthsOf(names: string[], ties: { from: string; to: string }[]): Map<string, number> {
  const depths = new Map<string, number>();
  const visit = (name: string, above: Set<string>): number => {
    const known = depths.get(name);
    if (known !== undefined) return known;
    const targets = ties
      .filter((tie) => tie.from === name && tie.to !== name && !above.has(tie.to))
      .map((tie) => visit(tie.to, new Set(above).add(name)));
    const depth = targets.length === 0 ? 0 : Math.max(...targets) + 1;
    depths.set(name, depth);
    return depth;
  };
  for (const name of names) visit(name, new Set());
  return depths;
}
