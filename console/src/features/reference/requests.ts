import { type Viewer, viewUrl } from '../../api/client';
import type { SeenAnswer } from '../../api/contracts';

/** A request of the viewer of descriptions. */
export interface SentRequest {
  url: string;
  method?: string;
  headers: Record<string, string>;
}

/** An answer as the viewer of descriptions shows it. */
export interface ShownAnswer {
  url: string;
  status: number;
  ok: boolean;
  statusText: string;
  text: string;
  data: string;
  headers: Record<string, string>;
}

const view = '/manage/view?';

/** A read goes to where it is answered as for somebody else, unless it brings a sign-in of its own; anything else stays as it is. */
export function asViewer(request: SentRequest, viewer: Viewer): SentRequest {
  const isRead = (request.method ?? 'GET').toUpperCase() === 'GET';
  const isSignedIn = Object.keys(request.headers).some((name) => name.toLowerCase() === 'authorization');
  if (!isRead || isSignedIn || (viewer.user === undefined && viewer.roles === undefined)) return request;
  const { pathname, search } = new URL(request.url);
  return { ...request, url: viewUrl(pathname + search, viewer, request.headers.accept) };
}

/** The answer that somebody else got, in place of the one that tells of it. */
export function fromViewer(answer: ShownAnswer): ShownAnswer {
  if (!answer.url.includes(view) || !answer.ok) return answer;
  const seen = JSON.parse(answer.text) as SeenAnswer;
  const text = seen.isWhole ? seen.body : `${seen.body}\n… and more, which is not shown here`;
  return {
    ...answer,
    status: seen.status,
    ok: seen.status < 400,
    statusText: '',
    text,
    data: text,
    headers: { 'content-type': seen.type ?? '' },
  };
}
