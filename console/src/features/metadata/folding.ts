// Folding of a metadata document: each type and the container to one line, so that the whole fits a page.
import { ensureSyntaxTree, foldEffect } from '@codemirror/language';
import type { EditorView } from '@codemirror/view';

const foldedElements = new Set(['EntityType', 'ComplexType', 'EnumType', 'EntityContainer']);

/** Folds every type and the container. */
export function foldTypes(view: EditorView): void {
  const tree = ensureSyntaxTree(view.state, view.state.doc.length, 2000);
  if (!tree) return;
  const effects = [];
  const cursor = tree.cursor();
  do {
    if (cursor.name !== 'Element') continue;
    const element = cursor.node;
    const open = element.getChild('OpenTag');
    const close = element.getChild('CloseTag');
    const name = open?.getChild('TagName');
    if (open && close && name && foldedElements.has(view.state.sliceDoc(name.from, name.to)))
      effects.push(foldEffect.of({ from: open.to, to: close.from }));
  } while (cursor.next());
  view.dispatch({ effects });
}
