// Answers that take a while: lines that say how far it is, and at last the result.

import { RequestError, sendPlain } from './client';

interface Line<T> {
  progress?: string;
  result?: T;
  error?: { code: string; message: string };
}

/** Asks for something that reads many rows. Aborting the signal cancels it at the service, too. */
export async function withProgress<T>(
  method: string,
  url: string,
  body: unknown,
  tell: (progress: string) => void,
  signal: AbortSignal,
): Promise<T> {
  const response = await sendPlain(method, url, body, { headers: { Accept: 'application/x-ndjson' }, signal });
  if (!response.ok || !response.body) {
    const fault = (await response.json().catch(() => ({}))) as { error?: { message?: string } };
    throw new RequestError(response.status, fault.error?.message ?? response.statusText);
  }
  let rest = '';
  const lines = response.body.pipeThrough(new TextDecoderStream()).getReader();
  for (;;) {
    const { done, value } = await lines.read();
    const parts = (rest + (value ?? '')).split('\n');
    rest = parts.pop() ?? '';
    for (const part of parts.filter(Boolean)) {
      const line = JSON.parse(part) as Line<T>;
      if (line.error) throw new RequestError(409, line.error.message);
      if (line.result !== undefined) return line.result;
      if (line.progress) tell(line.progress);
    }
    if (done) throw new RequestError(0, 'The service went away before it was done.');
  }
}
