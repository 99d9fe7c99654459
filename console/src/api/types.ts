// The answers of the console's own interface, and names for the generated types of the public API (schema.d.ts).

import type { components } from './schema';

type Schemas = components['schemas'];
export type Listed = Schemas['ListedNotificationAnswer'];
export type Shown = Schemas['NotificationAnswer'];
export type Explanation = Schemas['ExplainAnswer'];
export type SetAside = Schemas['SetAsideItem'];
export type Session = Schemas['SessionAnswer'];
export type User = Schemas['UserAnswer'];
export type Meters = Schemas['MetersAnswer'];
export type MeterStep = Schemas['MeterStepAnswer'];
export type PersonInbox = Schemas['PersonInboxAnswer'];
export type Sent = Schemas['SendAnswer'];
export type RulesInForce = Schemas['RulesAnswer'];
export type Rule = Schemas['RuleAnswer'];
export type Unmatched = Schemas['UnmatchedAnswer'];
export type RulesLoaded = Schemas['RulesLoaded'];
export type Tried = Schemas['TryAnswer'];
export type TriedRule = Schemas['TriedRule'];
export type Taken = Schemas['EventAnswer'];
export type ApiKey = Schemas['KeyAnswer'];
export type SigningKey = Schemas['SigningKeyAnswer'];
export type Settings = Schemas['SettingsAnswer'];
export type LimitUse = Schemas['LimitAnswer'];
export type Webhook = Schemas['WebhookAnswer'];
export type Decider = Schemas['DeciderAnswer'];
export type SpaceShown = Schemas['SpaceAnswer'];
export type SpaceMade = Schemas['SpaceCreated'];
export type Channel = Schemas['ChannelSummary'];
export type ChannelShown = Schemas['ChannelAnswer'];
export type Grant = Schemas['GrantAnswer'];
export type UserSummary = Schemas['UserSummary'];
export type Intake = Schemas['IntakeAnswer'];
export type IntakeTest = Schemas['IntakeTestAnswer'];

export interface Me {
  operator: string | null;
  may: 'view' | 'operate' | null;
  anyOperator: boolean;
  spaces: string[];
}

export interface Limit {
  name: string;
  limit: number;
  used: number;
  what: string;
}

export interface Act {
  number: number;
  time: string;
  actor: string;
  act: string;
  about: string;
  detail: Record<string, unknown>;
}

export interface Node {
  node: string;
  state: 'serving' | 'leaving' | 'cut-off' | 'silent';
  spaces: number;
  version: string;
  since: string;
  /** The live nodes that it can't reach; absent: none. */
  unreached?: string[];
}

export interface Facts {
  /** The node that serves the space; absent: the service has its store to itself. */
  node?: string;
  nodes: Node[];
  time: string;
  since: string;
  sessions: Record<string, number>;
  behind: number;
  waiting: number;
  live: number;
  people: number;
  lastMinute: number;
  sent: number;
  setAside: number;
  intakes: number;
  intakesWaiting: number;
  rules: number;
  rulesVersion: number;
  rulesFailed: number;
  channels: number;
  originsRefused: number;
  steps: string[];
  operators: number;
  bugs: number;
  storeFailures: number;
  historyBytes: number;
  /** Absent: only the database server knows. */
  freeBytes?: number;
  limits: Limit[];
  changed: Act[];
}

export interface AccessView {
  policyVersion: number;
  policies: {
    name: string;
    topic: string;
    may?: string[];
    never?: string[];
    when: Record<string, unknown>;
    ask?: string;
  }[];
  deciders: { name: string; asked: number; failed: number; resting: boolean; lastError?: string }[];
  refusedOrigins: { origin: string; count: number; last: string }[];
  limits: Limit[];
  acts: Act[];
}

export interface OperatorsView {
  operators: { name: string; may: string; since: string }[];
  sessions: { operator: string; since: string; ends: string; address: string; agent: string }[];
  signIns: { operator: string; time: string; address: string; agent: string; signedIn: boolean }[];
}

/** A notification in the live stream. */
export interface LiveRow {
  id: string;
  position: number;
  time: string;
  addressing: string;
  type: string;
  title: string;
  subject?: string;
  urgency?: string;
  dispatched: number;
  received: number;
  read: number;
  state?: 'withdrawn' | 'replaced' | 'expired' | 'taken';
}
