import { useQuery } from '@tanstack/react-query';
import { api, calls, given, queryClient, type Problem, type Schemas } from './client';

export type Installation = Schemas['Installation'];

const ended = (v?: Installation) => v === undefined || v.finished_at !== undefined || v.state === 'previewed';

/** An installation with its steps, read again while it runs, or while it is about to (soon). */
export function useInstallation(number: number, soon = false) {
  return api.useQuery('get', '/installations/{number}', { params: { path: { number } } }, { refetchInterval: (q) => (ended(q.state.data) && !(soon && q.state.data?.state === 'previewed') ? false : 500) });
}

/** The last installations of a mandate, read again while one of them runs. */
export function useInstallations(mandate: string) {
  return api.useQuery('get', '/installations', { params: { query: { mandate, limit: 20 } } }, { refetchInterval: (q) => (q.state.data?.items.some((v) => !ended(v)) ? 1000 : false) });
}

export const changed = () => Promise.all(['/installations', '/installations/{number}'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] })));

export const previewInstallation = (mandate: string, server: string) => given(calls.POST('/installations', { body: { mandate, server } }));
export const beginInstallation = (number: number) => given(calls.POST('/installations/{number}/begin', { params: { path: { number } } }));
export const returnInstallation = (number: number) => given(calls.POST('/installations/{number}/return', { params: { path: { number } } }));

export type MendRequest = Schemas['MendRequest'];

/** Works out how findings are mended; nothing is changed. */
export const previewMending = (which: MendRequest) => given(calls.POST('/findings/mend', { body: which }));

const mendingKey = (which: MendRequest) => ['mending', which];

/** How findings are mended, worked out once for each page: a plan that is carried out is not made anew when a survey ends ('static'). */
export const useMending = (which: MendRequest) => useQuery<Schemas['MendPlan'], Problem>({ queryKey: mendingKey(which), queryFn: () => previewMending(which), staleTime: 'static', gcTime: 0, retry: false });

/** Keeps what was worked out for the page that shows it. */
export const keepMending = (which: MendRequest, plan: Schemas['MendPlan']) => queryClient.setQueryData(mendingKey(which), plan);

/** Where a plan for these findings is shown. */
export const mendingAt = (which: MendRequest) => `/mending?${new URLSearchParams([...(which.findings ?? []).map((n): [string, string] => ['finding', String(n)]), ...(['server', 'code', 'host'] as const).flatMap((k): [string, string][] => (which[k] ? [[k, which[k]]] : []))])}`;

/** What an installation is called: the mandate whose certificate it brings, or what it mends. */
export const called = (v: Installation) => v.mends.length === 0 ? v.mandate : v.mends[0]?.finding === 0 ? `${v.mends[0].code} for ${v.mends[0].host}` : v.mends.length === 1 ? 'One finding mended' : `${v.mends.length} findings mended`;

/** How an installation stands, in a few words. */
export function standing(v: Installation): [kind: 'running' | 'failed' | 'fine' | 'never', text: string] {
  switch (v.state) {
    case 'previewed': return ['never', 'previewed; nothing was changed'];
    case 'rehearsed': return ['fine', 'rehearsed: staged, its own test of the copy passes; nothing was changed'];
    case 'done': if (v.mends.length > 0) return ['fine', `new everywhere: what lies on ${v.server} is what visitors get`]; return v.bindings.some((b) => !b.neighbour) ? ['fine', 'new everywhere: visitors get this certificate'] : ['never', 'taken in by the server, and looked at nowhere'];
    case 'returned': return [v.asked_back ? 'never' : 'failed', `${v.rehearsal ? 'rehearsed, and not well' : 'old everywhere'}: ${v.reason}`];
    case 'stuck': return ['failed', `neither new nor old everywhere: ${v.reason}`];
    default: return ['running', `under way: ${v.state}`];
  }
}
