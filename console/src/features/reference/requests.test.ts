import { expect, test } from 'vitest';
import { asViewer, fromViewer } from './requests';

const request = { url: 'http://127.0.0.1:8460/rest/rivers/Stations?limit=5', method: 'GET', headers: {} };

test('a read is sent as the chosen caller', () => {
  expect(asViewer(request, { user: 'ines' }).url).toBe(
    '/manage/view?url=%2Frest%2Frivers%2FStations%3Flimit%3D5&user=ines',
  );
});

test('the chosen format goes along', () => {
  const csv = { ...request, headers: { accept: 'text/csv' } };
  expect(asViewer(csv, { roles: 'technician' }).url).toContain('&roles=technician&accept=text%2Fcsv');
});

test.each([
  ['nobody is chosen', request, {}],
  ['it changes something', { ...request, method: 'POST' }, { user: 'ines' }],
  ['it brings a sign-in', { ...request, headers: { authorization: 'Basic x' } }, { user: 'ines' }],
])('a request stays as it is when %s', (_, sent, viewer) => {
  expect(asViewer(sent, viewer)).toBe(sent);
});

test('the answer of somebody else takes the place of that which tells of it', () => {
  const answer = {
    url: 'http://127.0.0.1:8460/manage/view?url=x',
    status: 200,
    ok: true,
    statusText: 'OK',
    text: '{"status":404,"type":"application/problem+json","isWhole":true,"body":"{}"}',
    data: '',
    headers: {},
  };
  expect(fromViewer(answer)).toMatchObject({
    status: 404,
    ok: false,
    text: '{}',
    headers: { 'content-type': 'application/problem+json' },
  });
  expect(fromViewer({ ...answer, url: 'http://127.0.0.1:8460/rest/x' }).status).toBe(200);
});
