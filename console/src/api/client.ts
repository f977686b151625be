// Talking to the service. Types come from its own description; every refusal becomes an Error
// with the service's words.
import createClient from 'openapi-fetch';
import { exactly } from './exactly';
import type { components, paths } from './generated/schema';

export type Schema = components['schemas'];
export type AlertItem = Schema['AlertItem'];
export type AlertDetail = Schema['AlertDetail'];
export type AlarmItem = Schema['AlarmItem'];
export type Severity = AlarmItem['severity'];
export type Verdict = Schema['VerdictMark']['verdict'];
export type AlarmDetail = Schema['AlarmDetail'];
export type JobItem = Schema['JobItem'];
export type JobDetail = Schema['JobDetail'];
export type GoesOn = Schema['GoesOn'];
export type NeedsYou = Schema['NeedsYou'];
export type JobStep = Schema['JobStep'];
export type JobPart = Schema['JobPart'];
export type CallAnswer = Schema['CallAnswer'];
export type DefinitionItem = Schema['DefinitionItem'];
export type DefinitionDetail = Schema['DefinitionDetail'];
export type PollState = Schema['PollState'];
export type Watch = Schema['Watch'];
export type Narrowing = Schema['Narrowing'];
export type Who = Schema['Who'];
export type Timeline = Schema['Timeline'];
export type TimelineMark = Schema['TimelineMark'];
export type JobTimeline = Schema['JobTimeline'];
export type JobTimelineMark = Schema['JobTimelineMark'];
export type Change = Schema['Change'];
export type BrokenRule = Schema['BrokenRule'];
export type DecisionItem = Schema['DecisionItem'];
export type DecisionContext = Schema['DecisionContext'];

export class Refused extends Error {
  constructor(
    message: string,
    readonly status: number,
    /** Problems about a text, each with its place. */
    readonly problems: FileProblem[] = [],
  ) {
    super(message);
  }
}

const client = createClient<paths>({ baseUrl: '/', headers: { 'X-Arvok-Console': '1' } });

/** What is said while the service does not answer. */
const AWAY = 'The service does not answer. It may be starting again; this page keeps trying.';

type Answer<T> = { data?: T; error?: unknown; response: Response };

async function taken<T>(asked: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await asked.catch(() => {
    throw new Refused(AWAY, 0);
  });
  if (response.ok) return data as T;
  const problem = error as Partial<Schema['Problem']> | undefined;
  throw new Refused(
    problem?.detail ?? `The service answered ${response.status}.`,
    response.status,
    problem?.problems,
  );
}

export const me = () => taken<Who>(client.GET('/api/v1/me'));
export const signIn = (token: string) =>
  taken<Who>(client.POST('/api/v1/session', { body: { token } }));
export const signOut = () => taken(client.DELETE('/api/v1/session'));
export const watch = (window: string) =>
  taken<Watch>(client.GET('/api/v1/watch', { params: { query: { window } } }));

export type AlertFilter = {
  trial?: boolean;
  severity?: string;
  state?: string;
  verdict?: string;
  outcome?: string;
  source?: string;
  kind?: string;
  resource?: string;
  rule?: string;
  text?: string;
  since?: string;
  until?: string;
};
export const alerts = (filter: AlertFilter, after?: number) =>
  taken(client.GET('/api/v1/alerts', { params: { query: { ...filter, after, limit: 200 } } }));
export const timeline = (since: string, rule?: string) =>
  taken<Timeline>(client.GET('/api/v1/timeline', { params: { query: { since, rule } } }));
export const jobTimeline = (since: string) =>
  taken<JobTimeline>(client.GET('/api/v1/timeline/jobs', { params: { query: { since } } }));
/** Numbers of a payload that JavaScript cannot hold stay as they are written. */
export const alert = async (seq: number) => {
  const asked = client.GET('/api/v1/alerts/{seq}', { params: { path: { seq } }, parseAs: 'text' });
  return exactly(await taken<string>(asked)) as AlertDetail;
};
export type AlarmFilter = {
  trial?: boolean;
  state?: string;
  severity?: string;
  source?: string;
  kind?: string;
  resource?: string;
  text?: string;
  since?: string;
  until?: string;
};
export const alarms = (filter: AlarmFilter, after?: number) =>
  taken(client.GET('/api/v1/alarms', { params: { query: { ...filter, after, limit: 200 } } }));
export const alarm = (id: number) =>
  taken<AlarmDetail>(client.GET('/api/v1/alarms/{id}', { params: { path: { id } } }));
export const actOnAlarm = (id: number, act: Schema['NewAlarmAct']['act'], text: string) =>
  taken(client.POST('/api/v1/alarms/{id}/acts', { params: { path: { id } }, body: { act, text } }));
export type JobFilter = {
  trial?: boolean;
  state?: string;
  effect?: string;
  rule?: string;
  runbook?: string;
  target?: string;
  by?: string;
  held_by?: string;
  since?: string;
  until?: string;
};
export const jobs = (filter: JobFilter, after?: number) =>
  taken(client.GET('/api/v1/jobs', { params: { query: { ...filter, after, limit: 200 } } }));
export const job = (id: number) =>
  taken<JobDetail>(client.GET('/api/v1/jobs/{id}', { params: { path: { id } } }));
export const resolve = (
  id: number,
  as: 'done' | 'again' | 'failed',
  step: string,
  output?: unknown,
  why?: string,
) =>
  taken(
    client.POST('/api/v1/jobs/{id}/resolve', {
      params: { path: { id } },
      body: { as, step, output, why },
    }),
  );
export const goOn = (id: number, dry_run: boolean, why?: string) =>
  taken<GoesOn>(
    client.POST('/api/v1/jobs/{id}/go-on', { params: { path: { id } }, body: { dry_run, why } }),
  );
export type MemoryItem = Schema['MemoryItem'];
export const memory = (runbook: string, history: boolean) =>
  taken<{ items: MemoryItem[] }>(
    client.GET('/api/v1/memory', { params: { query: { runbook, history, limit: 30 } } }),
  );
export const forgetMemory = (body: Schema['ForgetMemory']) =>
  taken(client.POST('/api/v1/memory/forget', { body }));
export type MuteItem = Schema['MuteItem'];
export type MuteCovers = Schema['MuteCovers'];
export const mutes = (all: boolean) =>
  taken(client.GET('/api/v1/mutes', { params: { query: { all, limit: 200 } } }));
export const beginMute = (body: Schema['NewMute']) =>
  taken<Schema['NewlyMuted']>(client.POST('/api/v1/mutes', { body }));
export const liftMute = (id: number) =>
  taken(client.DELETE('/api/v1/mutes/{id}', { params: { path: { id } } }));
export type PlanItem = Schema['PlanItem'];
export type PlanEntry = Schema['PlanEntry'];
export type PlanDetail = Schema['PlanDetail'];
export const plans = () => taken(client.GET('/api/v1/plans'));
export const plan = (name: string) =>
  taken<PlanDetail>(client.GET('/api/v1/plans/{name}', { params: { path: { name } } }));
export const planTimes = (query: { plan?: string; from?: string; until?: string }) =>
  taken<Schema['PlanTimes']>(client.GET('/api/v1/plan-times', { params: { query } }));
export const runPlan = (name: string, why: string) =>
  taken(client.POST('/api/v1/plans/{name}/run', { params: { path: { name } }, body: { why } }));
export const skipPlan = (name: string, body: Schema['SkipPlan']) =>
  taken(client.POST('/api/v1/plans/{name}/skip', { params: { path: { name } }, body }));
export const unskipPlan = (name: string, due: string) =>
  taken(client.POST('/api/v1/plans/{name}/unskip', { params: { path: { name } }, body: { due } }));
export type GuardItem = Schema['GuardItem'];
export const guards = () => taken(client.GET('/api/v1/guards'));
export const guard = (name: string) =>
  taken<GuardItem>(client.GET('/api/v1/guards/{name}', { params: { path: { name } } }));
export const resumeGuard = (name: string, runbook: string, reason: string) =>
  taken(
    client.POST('/api/v1/guards/{name}/resume', {
      params: { path: { name } },
      body: { runbook, reason },
    }),
  );
export const overrule = (id: number, guard: string, reason: string) =>
  taken(
    client.POST('/api/v1/jobs/{id}/overrule', {
      params: { path: { id } },
      body: { guard, reason },
    }),
  );
export const liftHalt = () => taken(client.DELETE('/api/v1/halt'));
export const setSeen = (id: number, undo = false) =>
  taken(client.POST('/api/v1/jobs/{id}/seen', { params: { path: { id } }, body: { undo } }));
export const takeDecision = (id: number, choice: string, remark?: string) =>
  taken<DecisionItem>(
    client.POST('/api/v1/decisions/{id}', { params: { path: { id } }, body: { choice, remark } }),
  );
export const openLink = (link: string) =>
  taken<DecisionContext>(client.POST('/api/v1/decisions/link', { body: { link } }));
export const decideByLink = (link: string, choice: string, name: string, remark?: string) =>
  taken<DecisionItem>(
    client.POST('/api/v1/decisions/link/take', { body: { link, choice, name, remark } }),
  );
export type RunbookForm = Schema['RunbookForm'];
export type Launch = Schema['Launch'];
export type DryRun = Schema['DryRun'];
export type DryStep = Schema['DryStep'];
export type Preview = Schema['Preview'];
export const runbookForm = (name: string) =>
  taken<RunbookForm>(client.GET('/api/v1/runbooks/{name}', { params: { path: { name } } }));
export const dryRun = (body: Launch) =>
  taken<DryRun>(client.POST('/api/v1/jobs/dry-run', { body }));
export const launchRunbook = (body: Launch, key: string) =>
  taken<Schema['Launched']>(
    client.POST('/api/v1/jobs', { params: { header: { 'Idempotency-Key': key } }, body }),
  );
export const pause = (id: number) =>
  taken(client.POST('/api/v1/jobs/{id}/pause', { params: { path: { id } }, body: {} }));
export const resume = (id: number) =>
  taken(client.POST('/api/v1/jobs/{id}/resume', { params: { path: { id } }, body: {} }));
export const cancel = (id: number, undo: boolean, why: string) =>
  taken(client.POST('/api/v1/jobs/{id}/cancel', { params: { path: { id } }, body: { undo, why } }));
export const definitions = (kind: string) =>
  taken(client.GET('/api/v1/definitions/{kind}', { params: { path: { kind } } }));
export const definition = (kind: string, name: string) =>
  taken<DefinitionDetail>(
    client.GET('/api/v1/definitions/{kind}/{name}', { params: { path: { kind, name } } }),
  );

export type Why = Schema['Why'];
export type AlertWhy = Schema['AlertWhy'];
export type Proposal = Schema['ProposalItem'];
export type FileProblem = Schema['FileProblem'];
export type Vocabulary = Schema['Vocabulary'];
export type RehearsalLine = Schema['RehearsalLine'];
export type RehearsalResult = Schema['RehearsalResult'];
export type RehearsalReport = Schema['RehearsalReport'];
export type Version = Schema['VersionItem'];

export const versions = (kind: string, name: string) =>
  taken(
    client.GET('/api/v1/definitions/{kind}/{name}/versions', { params: { path: { kind, name } } }),
  );
export const vocabulary = () => taken<Vocabulary>(client.GET('/api/v1/vocabulary'));
export type PlannedChange = Schema['PlannedChange'];
export type ActsByItself = Schema['ActsByItself'];
/** Publishes a text, or only tells what would change; `as` is what it is expected to change. */
export const publish = (file: string, text: string, dry_run: boolean, as: PlannedChange[] = []) => {
  const expects = as.map(({ kind, name, version }) => ({ kind, name, version }));
  return taken(
    client.POST('/api/v1/publish', { body: { files: [{ file, text }], dry_run, expects } }),
  );
};
/** Withdraws a definition, or only tells what that would change. */
export const withdraw = (kind: string, name: string, dry_run: boolean) =>
  taken(
    client.POST('/api/v1/publish', {
      body: { files: [], withdraw: [{ kind, name }], dry_run, expects: [] },
    }),
  );
export type Unreadable = Schema['UnreadableItem'];
export const unreadable = (source: string, after?: number) =>
  taken(client.GET('/api/v1/unreadable', { params: { query: { source, after, limit: 50 } } }));
export const makeTrial = (body: Schema['NewTrial']) =>
  taken<Schema['DeliveryAnswer']>(client.POST('/api/v1/trials', { body }));
export type TriedStep = Schema['TriedStep'];
export const tryStep = (body: Schema['TryStep']) =>
  taken<TriedStep>(client.POST('/api/v1/runbooks/try', { body }));
export type ClearedTrials = Schema['ClearedTrials'];
export const clearTrials = () => taken<ClearedTrials>(client.DELETE('/api/v1/trials'));
export const retryUnreadable = (source: string, acting: boolean, after?: number) =>
  taken(client.POST('/api/v1/unreadable/retry', { body: { source, acting, after } }));
export type KindShape = Schema['KindShape'];
export type ShapeField = Schema['ShapeField'];
export const shapes = (name: string) =>
  taken(client.GET('/api/v1/sources/{name}/shapes', { params: { path: { name } } }));
export const suggestion = (name: string) =>
  taken(client.GET('/api/v1/sources/{name}/suggestion', { params: { path: { name } } }));
export type TestedSource = Schema['TestedSource'];
export const testSource = (text: string) =>
  taken(client.POST('/api/v1/sources/test', { body: { text } }));
export type RunnerItem = Schema['RunnerItem'];
export const runners = () => taken(client.GET('/api/v1/runners'));
export type NodeItem = Schema['NodeItem'];
export const nodes = () => taken(client.GET('/api/v1/nodes'));
export type Storage = Schema['Storage'];
export const storage = () => taken(client.GET('/api/v1/storage'));
export type Keep = Partial<Omit<Schema['KeepRequest'], 'dry_run'>>;
export const keepFor = (keep: Keep, dry_run: boolean) =>
  taken(
    client.PUT('/api/v1/storage/retention', {
      body: { alerts: null, sources: {}, unreadable: null, attempts: null, ...keep, dry_run },
    }),
  );
export const setHalt = (reason: string, running: boolean) =>
  taken(client.PUT('/api/v1/halt', { body: { reason, running } }));
export type SelectiveHalt = Schema['SelectiveHalt'];
export type HaltCovers = Schema['HaltCovers'];
export const beginHalt = (covers: HaltCovers, reason: string, running: boolean, dry_run: boolean) =>
  taken(client.POST('/api/v1/halts', { body: { covers, reason, running, dry_run } }));
export const endHalt = (id: number) =>
  taken(client.DELETE('/api/v1/halts/{id}', { params: { path: { id } } }));
export type Token = Schema['TokenItem'];
export const tokens = () => taken(client.GET('/api/v1/tokens'));
export type AutomationRight = Schema['AutomationRight'];
export const makeToken = (name: string, role: Who['role']) =>
  taken<Schema['TokenMade']>(client.POST('/api/v1/tokens', { body: { name, role } }));
export const setAutomation = (name: string, body: AutomationRight) =>
  taken(client.PUT('/api/v1/tokens/{name}/automate', { params: { path: { name } }, body }));
export const revokeToken = (name: string) =>
  taken(client.DELETE('/api/v1/tokens/{name}', { params: { path: { name } } }));
export type Secret = Schema['SecretItem'];
export const secrets = () => taken(client.GET('/api/v1/secrets'));
export const setSecret = (name: string, value: string, allowed?: string[]) =>
  taken(
    client.PUT('/api/v1/secrets/{name}', { params: { path: { name } }, body: { value, allowed } }),
  );
export const removeSecret = (name: string) =>
  taken(client.DELETE('/api/v1/secrets/{name}', { params: { path: { name } } }));
export type AuditItem = Schema['AuditItem'];
export type AuditFilter = { by?: string; act?: string; since?: string };
export const audit = (filter: AuditFilter, after?: number) =>
  taken(client.GET('/api/v1/audit', { params: { query: { ...filter, after, limit: 200 } } }));
export const alertWhy = (seq: number) =>
  taken<AlertWhy>(client.GET('/api/v1/alerts/{seq}/why', { params: { path: { seq } } }));
export const why = (body: Schema['WhyRequest']) => taken<Why>(client.POST('/api/v1/why', { body }));
export const draft = (seq: number) =>
  taken(client.GET('/api/v1/alerts/{seq}/draft', { params: { path: { seq } } }));
export const example = (seq: number, rule?: string) =>
  taken(client.GET('/api/v1/alerts/{seq}/example', { params: { path: { seq }, query: { rule } } }));
export const documentSchema = (kind: string) =>
  taken<unknown>(client.GET('/api/v1/schemas/{kind}', { params: { path: { kind } } }));
export type RunbookOutline = Schema['RunbookOutline'];
export type OutlineStep = Schema['OutlineStep'];
export type OutlinePart = Schema['OutlinePart'];
export const outline = (text: string) =>
  taken<RunbookOutline>(client.POST('/api/v1/runbooks/outline', { body: { text } }));
export type LibraryItem = Schema['LibraryItem'];
export const library = () => taken(client.GET('/api/v1/library'));
export const readyMade = (name: string) =>
  taken(client.GET('/api/v1/library/{name}', { params: { path: { name } } }));
export const copyReadyMade = (name: string, body: Schema['CopyRequest']) =>
  taken(client.POST('/api/v1/library/{name}/copy', { params: { path: { name } }, body }));
export type Contact = Schema['ContactItem'];
export const contacts = () => taken(client.GET('/api/v1/contacts'));
export const contact = (name: string) =>
  taken<Contact>(client.GET('/api/v1/contacts/{name}', { params: { path: { name } } }));

export type Subscriber = Schema['SubscriberItem'];
export type Outgoing = Schema['OutgoingItem'];
export const subscribers = () => taken(client.GET('/api/v1/subscribers'));
export const subscriber = (name: string) =>
  taken<Subscriber>(client.GET('/api/v1/subscribers/{name}', { params: { path: { name } } }));
export const outgoing = (name: string, state?: string) =>
  taken(
    client.GET('/api/v1/subscribers/{name}/events', {
      params: { path: { name }, query: { state, limit: 100 } },
    }),
  );
export const confirmSubscriber = (name: string) =>
  taken<Subscriber>(
    client.POST('/api/v1/subscribers/{name}/confirm', { params: { path: { name } } }),
  );
export const replayEvents = (name: string, since?: string) =>
  taken(
    client.POST('/api/v1/subscribers/{name}/replay', {
      params: { path: { name } },
      body: { since },
    }),
  );
export type Connection = Schema['ConnectionItem'];
export type ConnectionDetail = Schema['ConnectionDetail'];
export type Operation = Schema['OfferedOperation'];
export type CallItem = Schema['CallItem'];
export type CallState = CallItem['state'];
export type Imported = Schema['Imported'];
export const connections = () => taken(client.GET('/api/v1/connections'));
export const connection = (name: string) =>
  taken<ConnectionDetail>(client.GET('/api/v1/connections/{name}', { params: { path: { name } } }));
export const calls = (name: string) =>
  taken(
    client.GET('/api/v1/connections/{name}/calls', {
      params: { path: { name }, query: { limit: 50 } },
    }),
  );
export const testConnection = (name: string) =>
  taken(client.POST('/api/v1/connections/{name}/test', { params: { path: { name } } }));
export const tryOperation = (
  name: string,
  operation: string,
  give: Record<string, unknown>,
  dry_run: boolean,
) =>
  taken(
    client.POST('/api/v1/connections/{name}/operations/{operation}/try', {
      params: { path: { name, operation } },
      body: { give, dry_run },
    }),
  );
export const importConnector = (text: string, only: string[], name?: string) =>
  taken<Imported>(client.POST('/api/v1/connectors/import', { body: { text, only, name } }));
export type ProposalFilter = { state?: string; rule?: string; runbook?: string; target?: string };
export const proposals = (filter: ProposalFilter, after?: number) =>
  taken(client.GET('/api/v1/proposals', { params: { query: { ...filter, after, limit: 200 } } }));
export const proposal = (id: number) =>
  taken<Proposal>(client.GET('/api/v1/proposals/{id}', { params: { path: { id } } }));
export const launch = (id: number, note?: string, inputs: Record<string, unknown> = {}) =>
  taken(
    client.POST('/api/v1/proposals/{id}/launch', {
      params: { path: { id } },
      body: { note, inputs },
    }),
  );
export const dismiss = (id: number, note: string) =>
  taken(
    client.POST('/api/v1/proposals/{id}/dismiss', { params: { path: { id } }, body: { note } }),
  );

/** Rehearses, firstOfInterest each line as it comes; aborting the signal ends it on the service as well. */
export async function rehearse(
  body: Schema['RehearsalRequest'],
  signal: AbortSignal,
  tell: (line: RehearsalLine) => void,
): Promise<void> {
  const response = await fetch('/api/v1/rehearsals', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json', 'X-Arvok-Console': '1' },
    body: JSON.stringify(body),
    signal,
  }).catch((error: Error) => {
    if (signal.aborted) throw error;
    throw new Refused(AWAY, 0);
  });
  if (!response.ok || !response.body) {
    const problem = (await response.json().catch(() => ({}))) as { detail?: string };
    throw new Refused(
      problem.detail ?? `The service answered ${response.status}.`,
      response.status,
    );
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    rest += value;
    const lines = rest.split('\n');
    rest = lines.pop() ?? '';
    for (const line of lines) if (line) tell(JSON.parse(line) as RehearsalLine);
  }
}
