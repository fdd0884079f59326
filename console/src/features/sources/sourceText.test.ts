import { describe, expect, it } from 'vitest';
import { editsOf, emptySource, missingIn, variableOf } from './sourceText';

const written = (part: Partial<typeof emptySource>) =>
  Object.fromEntries(editsOf({ ...emptySource, name: 'network', ...part }).map((edit) => [edit.path[0], edit.value]));

describe('the text of a source', () => {
  it('holds what was filled in, in order', () => {
    const edits = editsOf({ ...emptySource, engine: 'postgresql', database: 'water', user: 'gable', port: '5433' });
    expect(edits.map((edit) => edit.path[0])).toEqual(['engine', 'host', 'port', 'database', 'user']);
    expect(edits[2]?.value).toBe(5433);
  });

  it('names a secret and never holds it', () => {
    expect(written({ database: 'water', user: 'gable', variable: 'NETWORK_PASSWORD' }).password).toBe(
      '${NETWORK_PASSWORD}',
    );
    expect(written({ way: 'none', variable: 'NETWORK_PASSWORD' }).password).toBeUndefined();
  });

  it('has a file or a server, not both', () => {
    expect(written({ engine: 'sqlite', file: 'data/network.db' })).toEqual({
      engine: 'sqlite',
      file: 'data/network.db',
    });
    expect(written({ hasConnection: true, connection: 'Host=db' })).toEqual({
      engine: 'postgresql',
      connection: 'Host=db',
    });
  });

  it('offers all, or what was chosen', () => {
    expect(written({ schemas: ['public'], kinds: ['table'] }).offer).toEqual({ schemas: ['public'], kinds: ['table'] });
    expect(written({}).offer).toBeUndefined();
    expect(written({ isWritable: true })['read-only']).toBe(false);
  });

  it('says what is missing', () => {
    expect(missingIn(emptySource)).toContain('name');
    expect(missingIn({ ...emptySource, name: 'Network' })).toContain('small letters');
    expect(missingIn({ ...emptySource, name: 'n', engine: 'sqlite' })).toContain('file');
    expect(missingIn({ ...emptySource, name: 'n', database: 'd' })).toContain('user');
    expect(missingIn({ ...emptySource, name: 'n', database: 'd', user: 'u' })).toBeUndefined();
  });

  it('makes a variable of a name', () => {
    expect(variableOf('field-work2')).toBe('FIELD_WORK2_PASSWORD');
  });
});
