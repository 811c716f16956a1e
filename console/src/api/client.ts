// The typed client of the service. Its types are generated from the OpenAPI
// document: npm run types.
import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export type Contest = components['schemas']['Contest'];
export type ContestDetail = components['schemas']['ContestDetail'];
export type Bout = components['schemas']['Bout'];
export type BoutDetail = components['schemas']['BoutDetail'];
export type Round = components['schemas']['Round'];
export type TestRow = components['schemas']['TestRow'];
export type Task = components['schemas']['Task'];
export type Proving = components['schemas']['Proving'];
export type CheckResult = components['schemas']['CheckResult'];
export type Diff = components['schemas']['Diff'];
export type DiffFile = components['schemas']['File'];
export type Used = components['schemas']['Used'];
export type Sheet = components['schemas']['Sheet'];
export type Exchange = components['schemas']['Exchange'];
export type TimelineEvent = components['schemas']['Timeline']['events'][number];
export type Hand = components['schemas']['Hand'];
export type NotedMark = components['schemas']['NotedMark'];
export type AddMark = components['schemas']['AddMark'];
export type CorrectMark = components['schemas']['CorrectMark'];
export type UsedHand = components['schemas']['UsedHand'];
export type StartHand = components['schemas']['StartHand'];
export type ImportBout = components['schemas']['ImportBout'];
export type Contender = components['schemas']['Contender'];
export type Report = components['schemas']['Report'];
export type Effort = components['schemas']['Effort'];
export type Standings = components['schemas']['Standings'];
export type EditMeasures = components['schemas']['EditMeasures'];
export type EditFigure = components['schemas']['EditFigure'];
export type EditFinding = components['schemas']['EditFinding'];
export type MarkEdit = components['schemas']['MarkEdit'];
export type Comparison = components['schemas']['Comparison'];
type ProblemDocument = components['schemas']['ProblemDocument'];

const client = createClient<paths>({ baseUrl: '/' });

/** What the service said when it did not do what was asked. */
export class ServiceError extends Error {
  readonly status: number;

  constructor(status: number, problem: ProblemDocument | undefined) {
    super(problem ? [problem.title, problem.detail].filter(Boolean).join(': ') : `The service answered ${status}.`);
    this.status = status;
  }
}

interface Answer<T> {
  data?: T;
  error?: ProblemDocument;
  response: Response;
}

async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ServiceError(0, { type: 'about:blank', title: 'The service does not answer', status: 0, detail: 'It may have been stopped. Start it with: agonometer serve' });
  }
  if (!answer.response.ok || answer.data === undefined) throw new ServiceError(answer.response.status, answer.error);
  return answer.data;
}

const byId = (id: string) => ({ params: { path: { id } } });

export const service = {
  contests: () => take(client.GET('/api/v1/contests')),
  contest: (id: string) => take(client.GET('/api/v1/contests/{id}', byId(id))),
  bout: (id: string) => take(client.GET('/api/v1/bouts/{id}', byId(id))),
  bouts: (task: string) => take(client.GET('/api/v1/bouts', { params: { query: { task } } })),
  diff: (id: string, round: string | undefined) => take(client.GET('/api/v1/bouts/{id}/diff', { params: { path: { id }, query: round ? { round } : {} } })),
  edits: (id: string, round: string | undefined) => take(client.GET('/api/v1/bouts/{id}/measures', { params: { path: { id }, query: round ? { round } : {} } })),
  measureAgain: (id: string) => take(client.POST('/api/v1/bouts/{id}/measures', byId(id))),
  markEdit: (id: string, finding: string, body: MarkEdit) => take(client.POST('/api/v1/bouts/{id}/measures/{finding}', { params: { path: { id, finding } }, body })),
  compare: (bouts: string[], reference: boolean) => take(client.GET('/api/v1/comparison', { params: { query: { bouts: bouts.join(','), ...(reference ? { reference: 'yes' as const } : {}) } } })),
  log: (id: string, round: string | undefined) => take(client.GET('/api/v1/bouts/{id}/log', { params: { path: { id }, query: round ? { round } : {} }, parseAs: 'text' })),
  checkLog: (id: string, c: { name: string; round: number; way: string }) =>
    take(
      client.GET('/api/v1/bouts/{id}/checks/{check}/log', {
        params: { path: { id, check: c.name }, query: { round: String(c.round), way: c.way as 'deciding' | 'visible' | 'again' | 'own-tests' } },
        parseAs: 'text',
      }),
    ),
  timeline: (id: string) => take(client.GET('/api/v1/bouts/{id}/timeline', byId(id))),
  boutLedger: (id: string) => take(client.GET('/api/v1/bouts/{id}/ledger', byId(id))),
  bodyHref: (id: string, number: number, side: 'request' | 'reply') => `/api/v1/bouts/${encodeURIComponent(id)}/exchanges/${number}/${side}`,
  tasks: () => take(client.GET('/api/v1/tasks')),
  task: (slug: string) => take(client.GET('/api/v1/tasks/{slug}', { params: { path: { slug } } })),
  provings: (task: string) => take(client.GET('/api/v1/provings', { params: { query: { task } } })),
  proving: (id: string) => take(client.GET('/api/v1/provings/{id}', byId(id))),
  contenders: () => take(client.GET('/api/v1/contenders')),
  checkContender: (slug: string, trial: boolean) => take(client.POST('/api/v1/contenders/{slug}/check', { params: { path: { slug } }, body: { trial } })),
  importBout: (body: ImportBout) => take(client.POST('/api/v1/bouts/import', { body })),
  recordingHref: (id: string, round: number) => `/api/v1/bouts/${encodeURIComponent(id)}/recording?round=${round}`,
  hands: () => take(client.GET('/api/v1/hand')),
  hand: (id: string) => take(client.GET('/api/v1/hand/{id}', byId(id))),
  startHand: (body: StartHand) => take(client.POST('/api/v1/hand', { body })),
  beginHand: (id: string, words: string) => take(client.POST('/api/v1/hand/{id}/begin', { ...byId(id), body: { words } })),
  pauseHand: (id: string) => take(client.POST('/api/v1/hand/{id}/pause', byId(id))),
  resumeHand: (id: string) => take(client.POST('/api/v1/hand/{id}/resume', byId(id))),
  finishHand: (id: string, answer: string) => take(client.POST('/api/v1/hand/{id}/finish', { ...byId(id), body: { answer } })),
  endHand: (id: string) => take(client.POST('/api/v1/hand/{id}/end', byId(id))),
  discardHand: (id: string, reason: string) => take(client.POST('/api/v1/hand/{id}/discard', { ...byId(id), body: { reason } })),
  addMark: (id: string, body: AddMark) => take(client.POST('/api/v1/hand/{id}/marks', { ...byId(id), body })),
  endSpan: (id: string, kind: string) => take(client.POST('/api/v1/hand/{id}/end-span', { ...byId(id), body: { kind } })),
  correctMark: (id: string, mark: string, body: CorrectMark) => take(client.POST('/api/v1/hand/{id}/marks/{mark}', { params: { path: { id, mark } }, body })),
  usedHand: (id: string, body: UsedHand) => take(client.POST('/api/v1/hand/{id}/used', { ...byId(id), body })),
  stopContest: async (id: string) => {
    const { error, response } = await client.POST('/api/v1/contests/{id}/stop', byId(id));
    if (!response.ok) throw new ServiceError(response.status, error);
  },
  signIn: async (code: string) => {
    const { error, response } = await client.POST('/api/v1/session', { body: { code } });
    if (!response.ok) throw new ServiceError(response.status, error);
  },
  eventsOf: (id: string, after: number) => new EventSource(`/api/v1/contests/${encodeURIComponent(id)}/events?after=${after}`),
};
