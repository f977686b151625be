// Talking to the service. Types come from its own description; every refusal becomes an Error
// with the service's words.
import createClient from 'openapi-fetch';
import type { components, paths } from './generated/schema';

export type Schema = components['schemas'];
export type AlertItem = Schema['AlertItem'];
export type AlertDetail = Schema['AlertDetail'];
export type AlarmItem = Schema['AlarmItem'];
export type AlarmDetail = Schema['AlarmDetail'];
export type JobItem = Schema['JobItem'];
export type JobDetail = Schema['JobDetail'];
export type PassageStep = Schema['PassageStep'];
export type DefinitionItem = Schema['DefinitionItem'];
export type DefinitionDetail = Schema['DefinitionDetail'];
export type Watch = Schema['Watch'];
export type Strait = Schema['Strait'];
export type Who = Schema['Who'];
export type Change = Schema['Change'];

export class Refused extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

const client = createClient<paths>({ baseUrl: '/', headers: { 'X-Arvok-Console': '1' } });

type Answer<T> = { data?: T; error?: unknown; response: Response };

async function taken<T>(asked: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await asked.catch(() => {
    throw new Refused('The service does not answer. It may be starting again; this page keeps trying.', 0);
  });
  if (response.ok) return data as T;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new Refused(detail ?? `The service answered ${response.status}.`, response.status);
}

export const me = () => taken<Who>(client.GET('/api/v1/me'));
export const signIn = (token: string) => taken<Who>(client.POST('/api/v1/session', { body: { token } }));
export const signOut = () => taken(client.DELETE('/api/v1/session'));
export const watch = (window: string) =>
  taken<Watch>(client.GET('/api/v1/watch', { params: { query: { window } } }));

export type AlertFilter = {
  severity?: string;
  state?: string;
  verdict?: string;
  rule?: string;
  text?: string;
};
export const alerts = (filter: AlertFilter, after?: number) =>
  taken(client.GET('/api/v1/alerts', { params: { query: { ...filter, after, limit: 200 } } }));
export const alert = (seq: number) =>
  taken<AlertDetail>(client.GET('/api/v1/alerts/{seq}', { params: { path: { seq } } }));
export const alarms = (state?: string) =>
  taken(client.GET('/api/v1/alarms', { params: { query: { state, limit: 200 } } }));
export const alarm = (id: number) =>
  taken<AlarmDetail>(client.GET('/api/v1/alarms/{id}', { params: { path: { id } } }));
export const jobs = (state?: string) =>
  taken(client.GET('/api/v1/jobs', { params: { query: { state, limit: 200 } } }));
export const job = (id: number) =>
  taken<JobDetail>(client.GET('/api/v1/jobs/{id}', { params: { path: { id } } }));
export const settle = (id: number, as: string) =>
  taken(client.POST('/api/v1/jobs/{id}/settle', { params: { path: { id } }, body: { as } }));
export const definitions = (kind: string) =>
  taken(client.GET('/api/v1/definitions/{kind}', { params: { path: { kind } } }));
export const definition = (kind: string, name: string) =>
  taken<DefinitionDetail>(
    client.GET('/api/v1/definitions/{kind}/{name}', { params: { path: { kind, name } } }),
  );
