import type { Edit } from '../../api/draft';

export type Engine = 'sqlite' | 'postgresql' | 'mariadb';

/** Where the password of a server comes from. */
export type SecretWay = 'none' | 'variable' | 'kept';

/** What the form for a database holds. */
export interface SourceFields {
  name: string;
  engine: Engine;
  title: string;
  description: string;
  file: string;
  /** By a connection string instead of single settings. */
  hasConnection: boolean;
  connection: string;
  host: string;
  port: string;
  database: string;
  user: string;
  tls: string;
  way: SecretWay;
  /** The variable or the kept secret that holds the password. */
  variable: string;
  isWritable: boolean;
  /** Null = all. */
  schemas: string[] | null;
  kinds: string[] | null;
}

export const emptySource: SourceFields = {
  name: '',
  engine: 'postgresql',
  title: '',
  description: '',
  file: '',
  hasConnection: false,
  connection: '',
  host: '127.0.0.1',
  port: '',
  database: '',
  user: '',
  tls: '',
  way: 'variable',
  variable: '',
  isWritable: false,
  schemas: null,
  kinds: null,
};

/** The values of a source's file in the order in which people write them. */
export function editsOf(fields: SourceFields): Edit[] {
  const server = fields.hasConnection
    ? [['connection', fields.connection]]
    : [
        ['host', fields.host],
        ['port', fields.port && Number(fields.port)],
        ['database', fields.database],
        ['user', fields.user],
      ];
  const password: unknown[][] =
    fields.way === 'none' || !fields.variable ? [] : [['password', `\${${fields.variable}}`]];
  const offer = { ...(fields.schemas && { schemas: fields.schemas }), ...(fields.kinds && { kinds: fields.kinds }) };
  const settings: unknown[][] = [
    ['engine', fields.engine],
    ['title', fields.title],
    ['description', fields.description],
    ...(fields.engine === 'sqlite' ? [['file', fields.file]] : [...server, ['tls', fields.tls], ...password]),
    ['offer', Object.keys(offer).length > 0 ? offer : ''],
    ['read-only', fields.isWritable ? false : ''],
  ];
  return settings.filter(([, value]) => value !== '').map(([word, value]) => ({ path: [String(word)], value }));
}

/** The name of a variable for a source's password. */
export function variableOf(name: string): string {
  return `${name.toUpperCase().replace(/[^A-Z0-9]+/g, '_')}_PASSWORD`;
}

/** What is still missing before anything can be tried; undefined = nothing. */
export function missingIn(fields: SourceFields): string | undefined {
  if (!/^[a-z][a-z0-9_-]*$/.test(fields.name))
    return 'Give it a name of small letters, digits, "-" and "_", such as network.';
  if (fields.engine === 'sqlite') return fields.file ? undefined : 'Choose the database file.';
  if (fields.hasConnection) return fields.connection ? undefined : 'Write the connection string.';
  return !fields.database ? 'Name the database.' : !fields.user ? 'Name the user.' : undefined;
}
