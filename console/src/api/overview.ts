// How the service is doing.

import { send } from './client';
import type { Overview } from './contracts';

export async function fetchOverview(): Promise<Overview> {
  return (await send('GET', '/manage/overview')).json();
}
