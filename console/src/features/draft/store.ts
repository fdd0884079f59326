import { useSyncExternalStore } from 'react';

/** A text that is not written yet. */
export interface Edited {
  text: string;
  /** The version that it was made from; missing = the file is new. */
  version?: string;
}

// What was typed outlives a session that ends in the middle of it, and a page that is loaded again.
const key = 'gable-draft';
let edited: Record<string, Edited> = read();
const listeners = new Set<() => void>();

function read(): Record<string, Edited> {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? '{}') as Record<string, Edited>;
  } catch {
    return {};
  }
}

function change(next: Record<string, Edited>): void {
  edited = next;
  try {
    sessionStorage.setItem(key, JSON.stringify(edited));
  } catch {
    // A text that is too large for the browser's storage is kept for as long as the page is open.
  }
  listeners.forEach((listener) => listener());
}

export function keepEdited(file: string, text: Edited): void {
  change({ ...edited, [file]: text });
}

export function forgetEdited(file: string): void {
  change(Object.fromEntries(Object.entries(edited).filter(([name]) => name !== file)));
}

/** A text that is not written yet, as it is at this moment. */
export function latestEdited(file: string): Edited | undefined {
  return edited[file];
}

/** All texts that are not written yet, by their files. */
export function useEdited(): Record<string, Edited> {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => edited,
  );
}
