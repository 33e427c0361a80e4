import { api, calls, given, queryClient, type Schemas } from './client';

export type Wave = Schemas['Wave'];

const goesOn = (w?: Wave) => w?.state === 'running' || w?.state === 'returning';

/** A wave with its installations, read again while it runs. */
export function useWave(number: number) {
  return api.useQuery('get', '/waves/{number}', { params: { path: { number } } }, { refetchInterval: (q) => (goesOn(q.state.data) ? 500 : false) });
}

/** The last waves of a mandate, read again while one of them runs. */
export function useWaves(mandate: string) {
  return api.useQuery('get', '/waves', { params: { query: { mandate, limit: 10 } } }, { refetchInterval: (q) => (q.state.data?.items.some(goesOn) ? 1000 : false) });
}

export const wavesChanged = () => Promise.all(['/waves', '/waves/{number}', '/installations'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] })));

export const previewWave = (mandate: string) => given(calls.POST('/waves', { body: { mandate } }));
export const beginWave = (number: number) => given(calls.POST('/waves/{number}/begin', { params: { path: { number } } }));
export const returnWave = (number: number) => given(calls.POST('/waves/{number}/return', { params: { path: { number } } }));
export const keepWave = (number: number) => given(calls.POST('/waves/{number}/keep', { params: { path: { number } } }));

/** How a wave stands, in a few words. */
export function waveStanding(w: Wave): [kind: 'running' | 'failed' | 'fine' | 'never', text: string] {
  switch (w.state) {
    case 'previewed': return ['never', 'previewed; nothing was changed'];
    case 'running': return ['running', 'under way'];
    case 'returning': return ['running', 'on the way back'];
    case 'done': return ['fine', 'new on every server'];
    case 'returned': return ['never', 'old on every server, as before'];
    case 'kept': return ['never', `left as it is: it stopped, since ${w.reason}`];
    default: return ['failed', `it has stopped: ${w.reason}`];
  }
}

/** The servers in the order they go. */
export const waveOrder = (w: Wave) => w.groups.map((g) => g.map((s) => s.server).join(' and ')).join(', then ');
