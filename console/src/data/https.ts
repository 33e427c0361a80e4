import { api, calls, given, queryClient, type Schemas } from './client';

export type HttpsRun = Schemas['HttpsRun'];

/** Whether a run waits for a person. */
export const waits = (v: HttpsRun) => v.state === 'drafted' || v.state === 'prepared' || v.state === 'previewed';

const works = (v?: HttpsRun) => v !== undefined && !waits(v) && v.finished_at === undefined;

/** A site on its way to https, read again while the service works on it. */
export function useHttps(number: number) {
  return api.useQuery('get', '/https/{number}', { params: { path: { number } } }, { refetchInterval: (q) => (works(q.state.data) ? 500 : false) });
}

/** The last sites that were taken to https or are on their way. */
export function useHttpsRuns() {
  return api.useQuery('get', '/https', { params: { query: { limit: 20 } } }, { refetchInterval: (q) => (q.state.data?.items.some(works) ? 1000 : false) });
}

export const beginHttps = (server: string, host: string, mandate?: string) => given(calls.POST('/https', { body: { server, host, ...(mandate ? { mandate } : {}) } }));

/** Agrees to what a run waits for. */
export async function continueHttps(number: number) {
  await given(calls.POST('/https/{number}/continue', { params: { path: { number } } }));
  await Promise.all(['/https', '/https/{number}'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] })));
}

/** How a run stands, in a few words. */
export function standing(v: HttpsRun): [kind: 'running' | 'failed' | 'fine' | 'never', text: string] {
  switch (v.state) {
    case 'drafted': return ['never', 'waits for you: nothing was made, ordered or changed yet'];
    case 'checking': return ['running', 'trying what the CA will try'];
    case 'prepared': return ['never', 'waits for you: the server has to be prepared before the CA can be asked'];
    case 'preparing': return ['running', 'preparing the server'];
    case 'ordering': return ['running', 'ordering'];
    case 'previewed': return ['never', 'waits for you: the certificate lies in the safe, the server was not changed yet'];
    case 'installing': return ['running', 'installing'];
    case 'done': return ['fine', `done: ${v.reason || 'visitors get the certificate'}`];
    case 'failed': return ['failed', v.reason];
  }
}
