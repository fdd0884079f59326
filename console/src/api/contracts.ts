// The messages of the management interface. 'make contracts' writes this file from the service; do not edit it.

/** What one kind of caller may do with one set. */
export interface AccessCell {
  set: string;
  /** Whom it is about, in words. */
  caller: string;
  /** The operations, joined by commas; empty = none. */
  may: string;
  /** The condition on the rows that are read; null = all of them, or none may be read. */
  rows?: string;
  /** Columns whose properties are not there. */
  notShown: string[];
  /** Columns whose properties are always null. */
  masked: string[];
  /** The rules that give it, with their places in the declaration. */
  rules: string[];
  mayRead: boolean;
}

/** A user or a key that is set. */
export interface AccountBody {
  name: string;
  /** Only when a user is set. */
  password?: string;
  roles: string[];
  attributes: Record<string, string[]>;
  /** The services that a key is good for; missing = all. */
  services?: string[];
  /** The operations that a key is good for; missing = all. */
  may?: string[];
  /** How long a key is taken; missing = for ever. */
  days?: number;
}

/** Who may sign in to services, and who manages. */
export interface Accounts {
  /** All that rules and users name. */
  roles: string[];
  users: UserInfo[];
  keys: KeyInfo[];
  administrators: AdministratorInfo[];
}

/** Somebody who manages. */
export interface AdministratorInfo {
  name: string;
  /** look, write, publish, administer. */
  rights: string[];
}

/** One thing that happened. It holds no secret, no query option and no body. */
export interface AuditEvent {
  /** In UTC. */
  time: string;
  /** One of AuditEvents. */
  event: string;
  /** Who; null = an anonymous caller. */
  caller?: string;
  /** How they showed it: password, key, token, certificate, proxy, console, or command. */
  by?: string;
  /** The id of the key that was sent. */
  key?: string;
  /** Where from. */
  address?: string;
  method?: string;
  /** The path that was asked for, without options. */
  path?: string;
  status?: number;
  /** The code of the error, as docs/errors.md lists it. */
  code?: string;
  /** How many like it followed within a minute and are told by this one; null = it stands for itself. */
  count?: number;
  /** In words, where there is more to say. */
  detail?: string;
}

/** The newest events of the audit log. */
export interface AuditPage {
  /** The workspace keeps a log. */
  isKept: boolean;
  events: AuditEvent[];
}

/** The answers about a set in the last hour. */
export interface BusySet {
  service: string;
  /** Empty = documents, and what is no set. */
  set: string;
  requests: number;
  /** All answers together. */
  milliseconds: number;
  slowest: number;
}

/** What callers may ask, and those who ask most. */
export interface CallerLimits {
  /** Missing = as much as they like. */
  perMinute?: number;
  atOnce?: number;
  /** Counted where a limit is declared. */
  busiest: CallerUse[];
}

/** What a caller asked in a minute. */
export interface CallerUse {
  who: string;
  requests: number;
  /** Requests that were refused for it. */
  limited: number;
  /** At four fifths of the limit, or over it. */
  isNear: boolean;
}

/** A service whose revision changed. */
export interface ChangedService {
  service: string;
  /** Missing = it is new. */
  before?: string;
  /** Missing = it is gone. */
  after?: string;
}

/** What a check of the workspace's files found. */
export interface CheckAnswer {
  /** Nothing is wrong. */
  ok: boolean;
  findings: CheckFinding[];
  services: CheckedServiceInfo[];
}

/** Something that is wrong or doubtful, with its place. */
export interface CheckFinding {
  severity: 'error' | 'warning';
  code: string;
  message: string;
  file: string;
  /** From 1; missing = it is about the file as a whole. */
  line?: number;
  column?: number;
  /** What to do about it. */
  advice?: string;
}

/** What a check found of one service. */
export interface CheckedServiceInfo {
  service: string;
  /** What the rows prove; empty = they were not read. */
  data: DataProofInfo[];
  /** How it differs from the newest revision; missing = nothing was published. */
  changes?: MetadataChange[];
  /** What becomes visible or possible; missing = nothing was published. */
  opened?: string[];
}

/** What the draft would say. */
export interface ChosenObjects {
  file: string;
  /** The file as it would be. */
  text: string;
  version?: string;
  /** Tables and views that get a set. */
  added: string[];
  /** Those that have one already. */
  known: string[];
  /** Those that may hold secrets. */
  leftOut: string[];
  /** Those that cannot be published, with the reasons. */
  refused: RefusedObject[];
  /** Columns that look secret or personal and are hidden. */
  hidden: string[];
}

/** A column as it is declared, beside the property that becomes of it. */
export interface ColumnDesignInfo {
  column: string;
  declaredType: string;
  name: string;
  ownName: string;
  /** What it is published as; missing = it cannot be. */
  type?: string;
  /** The type that it has when none is declared. */
  ownType?: string;
  reason: string;
  isNullable: boolean;
  isShown: boolean;
  comment?: string;
  /** The complex property that holds it; missing = it stands by itself. */
  group?: string;
}

/** A column. */
export interface ColumnInfo {
  name: string;
  declaredType: string;
  /** What it is published as; missing = it is not. */
  type?: string;
  nullable: boolean;
  /** Why it has that type, or none. */
  reason: string;
  comment?: string;
  allowedValues: string[];
}

/** What the rows say of a column. */
export interface ColumnLookInfo {
  rows: number;
  nulls: number;
  /** The different values, the most frequent first; empty when there are many. */
  values: ValueCountInfo[];
  /** Types that most of the values fit, the best first. */
  offers: ConversionOfferInfo[];
  /** Rows whose value breaks the declared rules. */
  breaks: number;
  breakExamples: string[];
  /** Names for the values, if they are to be an enumeration; empty when there are many. */
  members: Record<string, string>;
}

/** How many rows fulfil a condition. */
export interface ConditionCount {
  rows: number;
  /** Rows that do not. */
  broken: number;
}

/** What came of connecting to a database. */
export interface ConnectAnswer {
  ok: boolean;
  /** Missing = its settings have faults. */
  address?: string;
  /** Why it cannot be used; missing = it can. */
  failure?: string;
  /** Of its settings. */
  faults: CheckFinding[];
  /** What it holds. */
  counts: SchemaCount[];
  milliseconds: number;
}

/** A type that a column could have. */
export interface ConversionOfferInfo {
  /** As a declaration says it. */
  words: Record<string, string>;
  /** Rows that do not fit. */
  misfits: number;
  example?: string;
}

/** What the rows of a set prove. */
export interface DataProofInfo {
  set: string;
  what: string;
  rows: number;
  /** What they contradict; missing = nothing. */
  fault?: string;
  examples: string[];
}

/** Database files that lie in the workspace's folder. */
export interface DatabaseFiles {
  files: string[];
  /** Secrets can be kept here; else a source names a variable of the environment. */
  keepsSecrets: boolean;
}

/** A type that derives from that of the set. */
export interface DerivedTypeInfo {
  name: string;
  table?: string;
  discriminator?: string;
  /** Values of the discriminator that mean this type. */
  values: (string | number)[];
  properties: PropertyInfo[];
}

/** A service file after changes, what it means, and what is wrong with it. */
export interface DesignAnswer {
  file: string;
  text: string;
  /** Missing = the text cannot be read as a service. */
  design?: ServiceDesignInfo;
  findings: CheckFinding[];
}

/** A change of a service's design. */
export interface DesignChangeInfo {
  /** The place of the set in the file, from 0; missing = the service itself. */
  set?: number;
  /** The words that lead to the value; see <c>DesignChange</c>. */
  path: unknown[];
  /** Missing = it is removed. */
  value?: unknown;
}

/** The first rows of a set as a caller gets them. */
export interface DesignRows {
  /** The payload; missing = the caller gets none. */
  body?: unknown;
  /** Why not. */
  fault?: RequestError;
  /** What each rule does for the caller. */
  rules: RuleEffect[];
}

/** Values that stand in several rows. */
export interface DoubledKeyInfo {
  values: (string | null)[];
  rows: number;
}

/** Why some columns do not identify rows. */
export interface DoubledKeysInfo {
  /** Different values that stand in several rows. */
  groups: number;
  /** Rows with a null in one of the columns. */
  nulls: number;
  columns: string[];
  examples: DoubledKeyInfo[];
}

/** Somebody else was first; nothing was written. */
export interface DraftConflict {
  error: ProblemDetail;
  /** The file as it is now; missing = it is gone. */
  current?: DraftText;
}

/** A change of a single value. */
export interface DraftEdit {
  /** Keys of mappings as texts, places of items as numbers from 0. */
  path: unknown[];
  /** What is set there; missing = it is removed. */
  value?: unknown;
}

/** A file of the draft. */
export interface DraftFileInfo {
  /** Its name, such as <c>services/rivers.yaml</c>. */
  file: string;
  /** Another one after each change. */
  version: string;
  bytes: number;
}

/** The workspace's files, which are the draft of what is published. */
export interface DraftFiles {
  /** They can be written from here. */
  isEditable: boolean;
  /** Why they cannot; missing = they can. */
  why?: string;
  files: DraftFileInfo[];
}

/** What publishing the draft would do. */
export interface DraftReview {
  /** The revision that it is compared with; 0 = none. */
  basedOn: number;
  services: ReviewedService[];
  settings: string[];
  /** What the checks say. */
  findings: CheckFinding[];
}

/** A file of the draft with its text. */
export interface DraftText {
  file: string;
  text: string;
  version: string;
}

/** Something in which a database has moved away. */
export interface DriftInfo {
  service?: string;
  text: string;
  /** What is published fails, or gives something else than it says. */
  breaks: boolean;
  /** Who may read what it is about. */
  affected: string[];
}

/** A set on one face. */
export interface EndpointInfo {
  face: string;
  set: string;
  /** Its address. */
  url: string;
  /** What the caller may do there. */
  operations: string[];
}

/** The statements behind a request, and what the rules do to it. */
export interface ExplainedAnswer {
  service: string;
  statements: ExplainedStatement[];
  /** Missing = it was not run. */
  times?: ExplainedTimes;
  rules: RuleEffect[];
}

export interface ExplainedParameter {
  placeholder: string;
  value: string;
  /** Where the value comes from. */
  origin: string;
}

/** One statement of a request, for the developer. */
export interface ExplainedStatement {
  /** What it is for, in a few words. */
  purpose: string;
  /** Its text. */
  sql: string;
  /** Each placeholder with its value. */
  parameters: ExplainedParameter[];
  /** How the engine means to run it, line by line; empty = not asked for. */
  plan: string[];
}

/** Where the time of a request goes, in microseconds. */
export interface ExplainedTimes {
  /** Text to syntax tree. */
  parse: number;
  /** Names and types. */
  bind: number;
  /** Plan and SQL; like parsing and binding done once for each shape of request. */
  plan: number;
  /** Until the first row is there. */
  database: number;
  /** All rows and the payload. */
  write: number;
  /** Length of the payload. */
  bytes: number;
}

/** What is wrong in the workspace, and where. */
export interface FaultInfo {
  code: string;
  message: string;
  location: string;
  advice?: string;
}

/** A foreign key. */
export interface ForeignKeyInfo {
  columns: string[];
  /** The table that it refers to. */
  target: string;
  targetColumns: string[];
}

/** Something that was inferred. */
export interface InferenceInfo {
  subject: string;
  value: string;
  reason: string;
}

/** A property of the entity and the one of the related entity that it equals. */
export interface JoinInfo {
  own: string;
  target: string;
}

/** An answer that was kept. */
export interface KeptExampleFile {
  /** Where. */
  file: string;
}

/** Something that was expected. */
export interface KeptExpectationOutcome {
  expected: string;
  /** What is wrong; missing = nothing. */
  fault?: string;
}

/** A request that the workspace keeps. */
export interface KeptRequestInfo {
  name: string;
  /** The file that it stands in, and in which line. */
  file: string;
  line: number;
  /** Missing = it has none. */
  title?: string;
  method: string;
  target: string;
  /** As whom it is sent; missing = anonymous. */
  as?: string;
  /** It may change something. */
  changes: boolean;
  body?: string;
  /** What must be true of its answer. */
  expectations: string[];
  /** An answer is kept beside it. */
  hasExample: boolean;
}

/** What came of a kept request. */
export interface KeptRequestOutcome {
  name: string;
  /** As whom it was sent. */
  caller: string;
  target: string;
  isGood: boolean;
  /** Missing = it was not sent; 0 = nothing came. */
  status?: number;
  milliseconds?: number;
  headers?: Record<string, string>;
  /** The answer as text, at most so many characters as IsCut leaves. */
  body?: string;
  isCut: boolean;
  /** Why it was not sent; missing = it was. */
  skipped?: string;
  expectations: KeptExpectationOutcome[];
}

/** A program's key; not the key itself. */
export interface KeyInfo {
  id: string;
  name: string;
  roles: string[];
  attributes: Record<string, string[]>;
  /** The services that it is good for; missing = all. */
  services?: string[];
  /** The operations that it is good for; missing = all. */
  may?: string[];
  isAdministrator: boolean;
  /** Of an administrator's key; missing = it is none. */
  rights?: string[];
  made: string;
  expires?: string;
  lastUse?: string;
}

/** Columns that identify a row, proved over all rows. */
export interface KeyProposal {
  columns: string[];
  reason: string;
}

/** The columns that identify the rows of a table or view. */
export interface KeysAnswer {
  name: string;
  /** As the database declares it; empty = it declares none. */
  primaryKey: string[];
  rows: number;
  /** Combinations of columns that were counted. */
  tried: number;
  /** Every combination was looked at; else the most likely ones only. */
  isComplete: boolean;
  candidates: KeyProposal[];
}

/** The key that was made; it is shown this once. */
export interface MadeKey {
  id: string;
  key: string;
}

/** The revision that was made. */
export interface MadeRevision {
  number: number;
}

/** Why the management interface does not do something. */
export interface ManagementProblem {
  error: ProblemDetail;
}

/** What a value is measured in: a unit or currency, or the path to the text that says so. */
export interface MeasureInfo {
  text?: string;
  path?: string;
}

/** What requests, kept answers and plans hold, in bytes. */
export interface MemoryUse {
  used: number;
  peak: number;
  most: number;
}

/** A difference of metadata, and what it means for consumers. */
export interface MetadataChange {
  subject: string;
  what: string;
  meaning: string;
  isBreaking: boolean;
}

/** What was answered in one minute. */
export interface MinuteTraffic {
  start: string;
  requests: number;
  /** Answers of 400 to 499. */
  refused: number;
  /** Answers of 500 and above. */
  failed: number;
  /** All answers together. */
  milliseconds: number;
}

/** A navigation property. */
export interface NavigationInfo {
  name: string;
  /** Name of the set that it leads to. */
  target: string;
  isCollection: boolean;
  nullable: boolean;
  partner?: string;
  isContained: boolean;
  isRemote: boolean;
  /** The link table. */
  through?: string;
  joins: JoinInfo[];
}

/** A table or view with its first rows. */
export interface ObjectDetails {
  name: string;
  schema?: string;
  kind: string;
  comment?: string;
  fault?: string;
  published: string[];
  key: string[];
  uniqueKeys: string[][];
  textIndexes: TextIndexInfo[];
  columns: ColumnInfo[];
  foreignKeys: ForeignKeyInfo[];
  /** Tables with foreign keys to it. */
  referredBy: string[];
  /** The columns of each index that is no key. */
  indexes: string[][];
  /** Values as texts; null = there is none. */
  rows: ((string | null)[])[];
}

/** How large a table or view is. */
export interface ObjectExtentInfo {
  rows: number;
  bytes?: number;
  /** The SELECT of a view. */
  definition?: string;
}

/** A table or view. */
export interface ObjectSummary {
  name: string;
  schema?: string;
  kind: string;
  columns: string[];
  key: string[];
  comment?: string;
  /** Why it cannot be published. */
  fault?: string;
  /** Sets over it, as service/set. */
  published: string[];
}

/** Rows of a relation that refer to nothing. */
export interface OrphansInfo {
  /** The set whose rows refer. */
  holder: string;
  referring: number;
  orphans: number;
  examples: string[];
}

/** How the service is doing. */
export interface Overview {
  /** When this was made, in UTC. */
  at: string;
  /** When the service started; what is counted begins then, or an hour ago. */
  started: string;
  /** Why the last good state is served; missing = there is no reason to. */
  problem?: string;
  services: ServiceTraffic[];
  /** Sets that took most of the time in the last hour. */
  busiest: BusySet[];
  slow: SlowStatementInfo[];
  /** From how many seconds in the database on a request is slow. */
  slowSeconds: number;
  limits: CallerLimits;
  sources: SourceHealth[];
  drift: DriftInfo[];
  memory: MemoryUse;
  isAuditKept: boolean;
  /** The newest that were refused or held to a limit. */
  refusals: AuditEvent[];
  /** The newest revisions. */
  publications: PublicationNote[];
}

/** A code for programs and a message for people. */
export interface ProblemDetail {
  code: string;
  message: string;
}

/** A line of something that takes a while: how far it is, and at last the result or what is wrong. */
export interface ProgressLine {
  progress?: string;
  result?: string | number;
  error?: ProblemDetail;
}

/** A property of an entity type. */
export interface PropertyInfo {
  name: string;
  type: string;
  /** The type with its facets. */
  facets: string;
  nullable: boolean;
  column: string;
  isKey: boolean;
  isFilterable: boolean;
  isSortable: boolean;
  /** How it becomes what is stored. */
  conversion?: string;
  enumMembers?: string[];
  /** When callers may write it. */
  write: 'always' | 'create' | 'never';
  isRequired: boolean;
  defaultValue?: string;
  /** How the service or the database makes its value. */
  made?: string;
  /** What it is computed by. */
  expression?: string;
  measure?: MeasureInfo;
  maxLength?: number;
  scale?: number;
  values?: string[];
  rules?: ValueRuleInfo;
  /** Parts of a complex value that is made of columns. */
  members?: PropertyInfo[];
  description?: string;
}

/** A publication. */
export interface PublicationNote {
  number: number;
  at: string;
  by: string;
  message: string;
  breaking: number;
}

/** What is published, what the draft would change, and what is switched off. */
export interface PublishingState {
  /** The number of the revision that is served; missing = the files are followed. */
  serves?: number;
  /** The newest first. */
  revisions: RevisionInfo[];
  /** In what the databases have moved away from the served revision. */
  drift: DriftInfo[];
  off: SwitchInfo[];
}

/** A column of what a query gives. */
export interface QueryColumnInfo {
  name: string;
  column: string;
  type: string;
  nullable: boolean;
}

/** A query as it is declared, beside what becomes of it. */
export interface QueryDesignInfo {
  name: string;
  /** The words and numbers that lead to it in the file. */
  path: unknown[];
  line: number;
  source: string;
  /** It may change something. */
  changes: boolean;
  /** It is published; else its declaration has faults. */
  isBuilt: boolean;
  parameters: QueryParameterInfo[];
  /** What it gives, as the database describes it. */
  columns: QueryColumnInfo[];
  written: Record<string, unknown>;
}

/** What makes a set a query. */
export interface QueryInfo {
  /** Rows, one row at most, one value, or nothing. */
  gives: 'rows' | 'row' | 'value' | 'nothing';
  /** What callers give. */
  parameters: PropertyInfo[];
  /** A value for each of them, to try the query with. */
  examples: Record<string, string>;
  /** Some values are those of the caller, who cannot set them. */
  takesFromCaller: boolean;
  /** The SELECT, or the statements of an action, as it is declared. */
  statement: string;
  /** Title of the group that it belongs to; missing = none. */
  group?: string;
}

/** A parameter of a query. */
export interface QueryParameterInfo {
  name: string;
  type: string;
  isRequired: boolean;
  sample: string;
  /** What of the caller it is; missing = callers give it. */
  takenFrom?: string;
}

/** Rows of a table or view. */
export interface RawRows {
  columns: string[];
  /** Values as texts; null = there is none. */
  rows: ((string | null)[])[];
  /** There are rows behind them. */
  hasMore: boolean;
}

/** What reading the workspace again has done. */
export interface RefreshResult {
  /** Faults kept the former state. */
  kept: boolean;
  changed: ChangedService[];
  differences: ServiceNote[];
  settings: string[];
  opened: ServiceNote[];
  faults: FaultInfo[];
}

/** A table or view that cannot be published. */
export interface RefusedObject {
  name: string;
  why: string;
}

/** A request that is refused, and what the rules do to it. */
export interface RefusedRequest {
  error: RequestError;
  rules: RuleEffect[];
}

/** A table or view in a picture of relations. */
export interface RelatedObject {
  name: string;
  kind: string;
  key: string[];
  /** Those of keys first. */
  columns: string[];
  isPublished: boolean;
}

/** Tables and views that are tied by foreign keys. */
export interface RelatedObjects {
  objects: RelatedObject[];
  ties: RelatedTie[];
  /** There are more of them. */
  isCut: boolean;
}

/** A foreign key. */
export interface RelatedTie {
  from: string;
  columns: string[];
  to: string;
  targetColumns: string[];
}

/** A way from a set to another. */
export interface RelationDesignInfo {
  name: string;
  to: string;
  isCollection: boolean;
  partner?: string;
  joins: JoinInfo[];
  /** It stands in the file; else it follows a foreign key. */
  isDeclared: boolean;
}

/** What is wrong with a request. */
export interface RequestError {
  code: string;
  message: string;
  target?: string;
  /** Of the first character that is wrong, from 0. */
  position?: number;
  /** The text with a caret under that character. */
  pointer?: string;
  status: number;
}

/** A header of a request or an answer. */
export interface RequestHeader {
  name: string;
  value: string;
}

/** What changes on one face. */
export interface ReviewedFace {
  face: string;
  changes: MetadataChange[];
}

/** What becomes of a service. */
export interface ReviewedService {
  name: string;
  change: 'new' | 'changed' | 'gone';
  differences: string[];
  faces: ReviewedFace[];
  opened: string[];
}

/** What differs between two revisions. */
export interface RevisionDifference {
  from: number;
  to: number;
  services: ReviewedService[];
}

/** A revision. */
export interface RevisionInfo {
  number: number;
  at: string;
  by: string;
  message: string;
  changes: string[];
  breaking: string[];
  opened: string[];
  /** The revision that it went back to; missing = it was made from the files. */
  backTo?: number;
  /** Missing = for good. */
  keptUntil?: string;
}

/** A function or procedure. */
export interface RoutineInfo {
  schema?: string;
  name: string;
  kind: string;
  parameters: string[];
  returns?: string;
  comment?: string;
}

/** What written rows must be: a condition, or columns whose values no two rows share. */
export interface RowRuleInfo {
  condition?: string;
  unique: string[];
  /** The operation that it is about; missing = both. */
  on?: 'create' | 'update';
  /** The callers that it is about; missing = all. */
  who?: string;
  message?: string;
}

/** A rule of a set or a service. */
export interface RuleDesignInfo {
  /** Roles, or one word such as <c>anyone</c>. */
  who: string[];
  may: string[];
  denies: boolean;
  /** The condition on rows; missing = all. */
  rows?: string;
  hide: string[];
  mask: string[];
  withCheck?: string;
  largestPage?: number;
  largestCost?: number;
}

/** What one rule does to one request. */
export interface RuleEffect {
  /** The set whose rule it is. */
  set: string;
  /** The rule in words. */
  rule: string;
  /** Where it is declared; null = nowhere. */
  place?: string;
  /** Whether it is about the caller. */
  applies: boolean;
  /** What it does, or why it does nothing. */
  effect: string;
}

/** How many objects of a kind a schema holds. */
export interface SchemaCount {
  /** Missing = the engine has no schemas. */
  schema?: string;
  /** As <c>offer</c> names it, such as <c>table</c>. */
  kind: string;
  count: number;
}

/** A secret of the workspace, without its value. */
export interface SecretInfo {
  name: string;
  /** Sources that name it. */
  usedBy: string[];
}

/** An answer as somebody else sees it. */
export interface SeenAnswer {
  status: number;
  /** Media type of the answer. */
  type?: string;
  /** The body is all of it, and not its beginning. */
  isWhole: boolean;
  body: string;
}

/** What came of a composed request. */
export interface SentAnswer {
  /** As whom it was sent. */
  caller: string;
  /** It could change something, and what it changed was undone. */
  isUndone: boolean;
  /** 0 = nothing came. */
  status: number;
  milliseconds: number;
  headers: RequestHeader[];
  /** Length of the whole body. */
  bytes: number;
  /** The body as text; missing = it is not text. */
  body?: string;
  /** The text is longer than what is shown. */
  isCut: boolean;
  /** What was sent to the databases, in order. */
  statements: SentStatement[];
  /** How many statements are not shown. */
  moreStatements: number;
  /** That read all rows of a list; empty = the answer is none. */
  programs: SentProgram[];
  /** What the rules of the sets do for the caller. */
  rules: RuleEffect[];
}

/** A program for a request. */
export interface SentProgram {
  language: string;
  text: string;
}

/** A statement that a request sent to a database. */
export interface SentStatement {
  source: string;
  sql: string;
  /** Its values. */
  parameters: string[];
}

/** What a service says of itself; what is missing is not said. */
export interface ServiceAboutInfo {
  version?: string;
  description?: string;
  owner?: string;
  contact?: string;
  licence?: string;
  terms?: string;
  tags: string[];
  /** That it will not stay, in words; missing = it will. */
  deprecated?: string;
}

/** Who may do what with each set of a service. */
export interface ServiceAccess {
  service: string;
  access: AccessCell[];
}

/** A service as it is declared, beside what becomes of it. */
export interface ServiceDesignInfo {
  service: string;
  /** The file's own words without its sets, each a text, a list or a mapping. */
  written: Record<string, unknown>;
  /** That rules and accounts name. */
  roles: string[];
  sets: SetDesignInfo[];
  queries: QueryDesignInfo[];
}

/** All of a published service. */
export interface ServiceDetails {
  name: string;
  title: string;
  revision: string;
  namespace: string;
  /** Names of the sources that its sets are over. */
  sources: string[];
  /** As in a summary. */
  faces: Record<string, string>;
  sets: SetInfo[];
  /** What nobody wrote, with the reasons. */
  inferences: InferenceInfo[];
  /** Who may send statements over its sets, in words. */
  sql?: string;
}

/** The services that a caller knows. */
export interface ServiceList {
  services: ServiceSummary[];
}

/** Something to know of a service. */
export interface ServiceNote {
  service: string;
  text: string;
}

/** A published service. */
export interface ServiceSummary {
  name: string;
  title: string;
  revision: string;
  /** How many sets the caller may know of. */
  sets: number;
  /** By the name of a face: the address of the service there. */
  faces: Record<string, string>;
  /** What the caller may do something with, on all faces. */
  endpoints: EndpointInfo[];
  about: ServiceAboutInfo;
}

/** The last hour of a service. */
export interface ServiceTraffic {
  name: string;
  title: string;
  /** All of it is switched off. */
  isOff: boolean;
  /** The oldest first, sixty of them. */
  minutes: MinuteTraffic[];
}

/** Who manages. */
export interface Session {
  /** There are administrators, so one of them must sign in. */
  required: boolean;
  /** Null = nobody has signed in. */
  name: string | null;
  /** look, write, publish, administer; empty = nobody has signed in. */
  rights: string[];
}

/** A set as it is declared, beside what becomes of it. */
export interface SetDesignInfo {
  /** Its place in the file's list of sets, from 0. */
  index: number;
  /** The line in which it starts, from 1. */
  line: number;
  from: string;
  source: string;
  /** Table, view or what else the catalog calls it; missing = it is not in the catalog. */
  kind?: string;
  comment?: string;
  name: string;
  /** The name that it has when none is declared. */
  ownName: string;
  type: string;
  ownType: string;
  /** It is published; else its declaration has faults. */
  isBuilt: boolean;
  key: string[];
  /** The key that the database declares; empty = it declares none. */
  catalogKey: string[];
  allow: string[];
  /** Who may read it, in words. */
  read: string;
  /** The set says them itself. */
  hasOwnRules: boolean;
  /** Those that hold, of the service where the set has none itself. */
  rules: RuleDesignInfo[];
  /** In the order of the properties. */
  columns: ColumnDesignInfo[];
  /** Their names in the order of the table. */
  ownColumns: string[];
  relations: RelationDesignInfo[];
  /** Its words, each a text, a list or a mapping. */
  written: Record<string, unknown>;
}

/** An entity set. */
export interface SetInfo {
  name: string;
  /** Name of its entity type. */
  type: string;
  source: string;
  /** The table, view or SELECT that it is over. */
  from: string;
  key: string[];
  pageSize: number;
  largestPage: number;
  /** A set of its own, one that is reached over its container, or rows without a key. */
  kind: 'set' | 'function' | 'action' | 'contained';
  containedIn?: string;
  description?: string;
  /** Terms of the order without a wish. */
  order: string[];
  /** Operations that are open to rules. */
  allow: string[];
  rules: SetRules;
  /** Whether anonymous callers read it. */
  isReadable: boolean;
  properties: PropertyInfo[];
  /** Columns that are not published. */
  hidden: string[];
  /** Properties that a search looks at. */
  searched: string[];
  requiresFilter: boolean;
  /** The column of the entity tag, or 'row' for the whole row. */
  version?: string;
  /** The column by which changes are followed. */
  changes?: string;
  /** What written rows must be. */
  valid: RowRuleInfo[];
  derived: DerivedTypeInfo[];
  navigations: NavigationInfo[];
  /** For a query with a name; missing = it is none. */
  query?: QueryInfo;
}

/** The access rules of a set, in words. */
export interface SetRules {
  /** Who may read it, or call it. */
  read: string;
  /** Each rule. */
  all: string[];
}

/** The user that was set. */
export interface SetUser {
  name: string;
}

/** A statement that was slow. */
export interface SlowStatementInfo {
  service: string;
  set: string;
  sql: string;
  count: number;
  /** In the database, at most. */
  seconds: number;
  last: string;
  /** How the engine means to run it; empty = it does not say. */
  plan: string[];
}

/** A source and where it is. */
export interface SourceAddress {
  name: string;
  address: string;
}

/** Whether a database answers. */
export interface SourceHealth {
  name: string;
  title: string;
  address: string;
  /** Missing = it does. */
  fault?: string;
  /** That it took to answer. */
  milliseconds: number;
}

/** All sources. */
export interface SourceList {
  sources: SourceSummary[];
}

/** A source with what it has on offer. */
export interface SourceSummary {
  name: string;
  address: string;
  /** What people call it; missing = by its name. */
  title?: string;
  description?: string;
  objects: ObjectSummary[];
  routines: RoutineInfo[];
}

/** Something that is switched off. */
export interface SwitchInfo {
  /** What, in words. */
  target: string;
  service: string;
  face?: string;
  group?: string;
  set?: string;
  /** As if it were not there. */
  isAbsent: boolean;
  message?: string;
  retryAfter: number;
  by: string;
  at: string;
}

/** An index that a full-text search can use. */
export interface TextIndexInfo {
  name: string;
  columns: string[];
}

/** A user with a password. */
export interface UserInfo {
  name: string;
  roles: string[];
  attributes: Record<string, string[]>;
  /** Missing = not as far as the audit log goes. */
  lastUse?: string;
}

/** A value and how many rows have it. */
export interface ValueCountInfo {
  value: string;
  rows: number;
}

/** What a written value must be. */
export interface ValueRuleInfo {
  minimum?: string;
  maximum?: string;
  minLength?: number;
  maxLength?: number;
  pattern?: string;
  message?: string;
}

/** What a verification found. */
export interface VerificationDetails {
  summary: VerificationSummary;
  parts: VerifiedPart[];
  /** The verification of the same services before it; missing = none is kept. */
  before?: number;
  /** Checks that passed then and fail now. */
  broken: string[];
  /** Checks that failed then and pass now. */
  mended: string[];
}

/** How far a verification is. */
export interface VerificationState {
  at: string;
  by: string;
  /** Empty = all. */
  services: string[];
  isRunning: boolean;
  /** What is being done. */
  part: string;
  detail: string;
  /** The parts that are done. */
  done: string[];
  /** Why it ended without a report. */
  failure?: string;
  /** Under which its report is kept. */
  number?: number;
}

/** What a verification found, in numbers. */
export interface VerificationSummary {
  number: number;
  at: string;
  by: string;
  /** Empty = all. */
  services: string[];
  passed: number;
  failed: number;
  skipped: number;
  seconds: number;
}

/** The verification that is running, and those that have ended. */
export interface Verifications {
  /** Missing = none was started since the service runs. */
  current?: VerificationState;
  /** The newest first. */
  former: VerificationSummary[];
}

/** A check of a set, or of the service. */
export interface VerifiedCheck {
  check: string;
  subject: string;
  outcome: 'passed' | 'failed' | 'skipped';
  message: string;
  /** How many rows or values were looked at. */
  examined: number;
  /** The request that shows it. */
  url?: string;
}

/** A service on one face, as one kind of caller. */
export interface VerifiedPart {
  title: string;
  url: string;
  seconds: number;
  checks: VerifiedCheck[];
}

/** The workspace and its sources. */
export interface WorkspaceInfo {
  title?: string;
  sources: SourceAddress[];
}
