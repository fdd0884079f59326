import { createContext, useContext } from 'react';
import type { EditedSet } from '../../api/proofs';

/** The service whose file is being changed, and its text. */
export const Edited = createContext({ service: '', text: '' });

/** A set of the file that is being changed, for questions about its rows. */
export function useEditedSet(set: number): EditedSet {
  return { ...useContext(Edited), set };
}
