// Verifications: runs over all checks, and what former ones found.

import { send } from './client';
import type { VerificationDetails, Verifications } from './contracts';

export async function fetchVerifications(): Promise<Verifications> {
  return (await send('GET', '/manage/verifications')).json();
}

export async function fetchVerification(number: number): Promise<VerificationDetails> {
  return (await send('GET', `/manage/verifications/${number}`)).json();
}

export async function startVerification(services: string[], rows: number, access: boolean): Promise<void> {
  await send('POST', '/manage/verifications', { services, rows, access });
}

export async function cancelVerification(): Promise<void> {
  await send('DELETE', '/manage/verifications/current');
}

export const reportOf = (number: number) => `/manage/verifications/${number}/report`;
