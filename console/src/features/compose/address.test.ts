import { describe, expect, it } from 'vitest';
import type { ServiceSummary } from '../../api/client';
import {
  buildAddress,
  type ComposedAddress,
  headersIn,
  parseAddress,
  pathOf,
  requestText,
  setAndKey,
  withOption,
  withRequest,
} from './address';

const rivers = {
  name: 'rivers',
  faces: { odata: 'http://127.0.0.1:8460/odata/rivers/', rest: 'http://127.0.0.1:8460/rest/rivers/' },
} as unknown as ServiceSummary;

describe('parts of an address', () => {
  const cases = [
    '/odata/rivers/',
    '/odata/rivers/$metadata',
    '/odata/rivers/Stations',
    "/odata/rivers/Stations?$filter=name%20eq%20'Ashford%20Weir'&$top=5",
    '/odata/rivers/Stations(7)?$expand=readings($top=3)',
    '/rest/rivers/Stations?sort=-name&limit=5',
    '/rest/rivers/Stations/7/readings?value=1..2',
    '/rest/rivers/Stations?name=A%26B',
  ];
  it.each(cases)('%s comes back as it was', (target) => {
    const parts = parseAddress(target, [rivers]) as ComposedAddress;
    expect(buildAddress(`/${parts.face}/rivers/`, parts)).toBe(target);
  });
  it('knows no service of others', () => {
    expect(parseAddress('/odata/other/Stations', [rivers])).toBeUndefined();
  });
  it('leaves wrong encoding as it is', () => {
    expect(parseAddress('/rest/rivers/Stations?name=%E0%A4%A', [rivers])?.options).toEqual([['name', '%E0%A4%A']]);
  });
  it('sets, replaces and removes options', () => {
    const set = withOption([], '$top', '5');
    expect(set).toEqual([['$top', '5']]);
    expect(withOption(set, '$top', '6')).toEqual([['$top', '6']]);
    expect(withOption(set, '$top', '')).toEqual([]);
  });
});

describe('set and key', () => {
  it.each([
    ['odata', 'Stations', 'Stations', '', ''],
    ['odata', 'Stations(7)/readings', 'Stations', '7', '/readings'],
    ['odata', "Codes('A)B''C')", 'Codes', "'A)B''C'", ''],
    ['rest', 'Stations/7/readings', 'Stations', '7', '/readings'],
    ['rest', '', '', '', ''],
  ])('%s %s', (face, path, set, key, rest) => {
    expect(setAndKey(face, path)).toEqual({ set, key, rest });
    expect(pathOf(face, set, key, rest)).toBe(path);
  });
});

describe('kept requests', () => {
  const request = {
    name: 'stations',
    title: 'Stations by name',
    comment: 'Asked each morning.\n\nBy the desk.',
    method: 'POST',
    target: '/rest/rivers/Stations?name=A B',
    as: 'technician',
    headers: [['Prefer', 'return=minimal']] as [string, string][],
    body: '{"code": "X"}',
    expectations: ['status 201'],
  };
  it('are written as editors send them', () => {
    expect(requestText(request)).toBe(
      '### Stations by name\n# Asked each morning.\n# By the desk.\n# @name stations\n# @as technician\n# @expect status 201\n' +
        'POST {{host}}/rest/rivers/Stations?name=A%20B\nAuthorization: {{caller}}\nPrefer: return=minimal\n\n{"code": "X"}\n',
    );
  });
  it('stand behind those that are there', () => {
    expect(withRequest('@host = x\n\n### One\nGET {{host}}/a\n\n\n', request)).toContain(
      'GET {{host}}/a\n\n### Stations',
    );
    expect(withRequest('', request)).toMatch(/^@host = /);
  });
});

it('headers are read line by line', () => {
  expect(headersIn('Accept: text/csv\n\n X-A:b:c \nnone')).toEqual([
    ['Accept', 'text/csv'],
    ['X-A', 'b:c'],
    ['none', ''],
  ]);
});
