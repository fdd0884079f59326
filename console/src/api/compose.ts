// Requests that are put together by hand.

import { send } from './client';
import type { SentAnswer } from './contracts';

export interface ComposedRequest {
  method: string;
  target: string;
  headers: { name: string; value: string }[];
  body?: string;
  /** A user, or roles joined by commas; missing = anonymous. */
  as?: string;
  /** What it changes stays; else it is undone. */
  real?: boolean;
}

/** Sends a request to a face as a caller, and gives what is behind its answer. */
export async function sendComposed(request: ComposedRequest): Promise<SentAnswer> {
  return (await send('POST', '/manage/requests/send', request)).json();
}
