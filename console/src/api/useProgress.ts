import { useEffect, useRef, useState } from 'react';

/** Work that takes a while: how far it is, what came of it, and a way to end it. */
export interface Progress<T> {
  run: () => void;
  cancel: () => void;
  /** How far it is; undefined = it does not run. */
  state: string | undefined;
  result: T | undefined;
  error: Error | undefined;
}

/** Runs something that tells how far it is, once at a time. It is cancelled when its page is left. */
export function useProgress<T>(
  work: (tell: (progress: string) => void, signal: AbortSignal) => Promise<T>,
): Progress<T> {
  const [state, setState] = useState<string>();
  const [result, setResult] = useState<T>();
  const [error, setError] = useState<Error>();
  const running = useRef<AbortController>(undefined);
  useEffect(() => () => running.current?.abort(), []);
  const run = () => {
    running.current?.abort();
    const mine = new AbortController();
    running.current = mine;
    const isMine = () => running.current === mine;
    setState('…');
    setResult(undefined);
    setError(undefined);
    work((progress) => isMine() && setState(progress), mine.signal)
      .then((found) => isMine() && setResult(() => found))
      .catch((fault: Error) => isMine() && !mine.signal.aborted && setError(fault))
      .finally(() => isMine() && setState(undefined));
  };
  const cancel = () => {
    running.current?.abort();
    running.current = undefined;
    setState(undefined);
  };
  return { run, cancel, state, result, error };
}
