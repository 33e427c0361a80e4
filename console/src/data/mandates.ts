import { useInfiniteQuery, keepPreviousData } from '@tanstack/react-query';
import { api, calls, given, queryClient, type Problem, type Schemas } from './client';

export type Mandate = Schemas['Mandate'];
export type Order = Schemas['Order'];
export type Trial = Schemas['Trial'];
export type CA = Schemas['CA'];

/** Mandates page by page; while an order runs they are read again each second. */
export function useMandates(q: string) {
  return useInfiniteQuery({
    queryKey: ['get', '/mandates', q], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => given(calls.GET('/mandates', { params: { query: { limit: 100, ...(q ? { q } : {}), ...(pageParam ? { cursor: pageParam } : {}) } } })),
    getNextPageParam: (last) => last.next_cursor,
    refetchInterval: (query) => (query.state.data?.pages.some((p) => p.items.some(running)) ? 1000 : false),
  });
}

const runs = (o?: Order) => o !== undefined && o.finished_at === undefined && !o.waits;

/** Whether an order of a mandate is under way. */
export const running = (m: Mandate) => runs(m.last) || runs(m.rehearsed) || m.rehearsed_on.some((v) => v.finished_at === undefined);

export function useMandate(name: string) {
  return api.useQuery('get', '/mandates/{name}', { params: { path: { name } } }, { refetchInterval: (q) => (!q.state.data ? false : running(q.state.data) ? 1000 : q.state.data.trail.some((e) => e.outcome === 'open') ? 5000 : false) });
}

/** An order with its steps, read again each second until it has ended. */
export function useOrder(number: number | undefined) {
  return api.useQuery('get', '/orders/{number}', { params: { path: { number: number ?? 1 } } }, { enabled: number !== undefined, refetchInterval: (q) => (q.state.data?.finished_at ? false : q.state.data?.waits ? 5000 : 700) });
}

export function useOrders(mandate: string) {
  return api.useQuery('get', '/orders', { params: { query: { mandate, limit: 20 } } });
}

export const changed = () => Promise.all(['/mandates', '/mandates/{name}', '/orders', '/orders/{number}', '/cas', '/cas/{name}/authority', '/cas/{name}/certificates', '/cas/{name}/rolling', '/accounts', '/forecast'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] })));

export const beginOrder = (mandate: string, rehearsal: boolean) => given(calls.POST('/orders', { body: { mandate, rehearsal, anyway: false } }));
export const checkMandate = (name: string) => given(calls.POST('/mandates/{name}/preflight', { params: { path: { name } } }));
export const visitMandate = (name: string) => given(calls.POST('/mandates/{name}/visit', { params: { path: { name } } }));
export const addMandate = (text: string) => given(calls.POST('/mandates', { body: { text } }));
export const draftMandate = (server: string, site: string) => given(calls.GET('/mandates/draft', { params: { query: { ...(server ? { server } : {}), ...(site ? { site } : {}) } } }));
export const agree = (ca: CA) => given(calls.POST('/cas/{name}/agreement', { params: { path: { name: ca.name } }, body: { terms: ca.terms, ...(ca.test_terms ? { test_terms: ca.test_terms } : {}) } }));

export async function removeMandate(name: string, used: boolean) {
  const { error, response } = await calls.DELETE('/mandates/{name}', { params: { path: { name }, query: { used } } });
  if (!response.ok) throw error as unknown as Problem;
}

/** How far the newest certificate of a mandate has come. */
export function placed(m: Mandate): string {
  if (m.seen_at > 0) return `seen at ${m.seen_at} ${m.seen_at === 1 ? 'binding' : 'bindings'}`;
  return m.installed_on.length > 0 ? `installed on ${m.installed_on.join(', ')}, not seen yet` : 'lies in the safe, installed nowhere';
}

/** How a mandate stands, in a few words. */
export function standing(m: Mandate): [kind: 'running' | 'failed' | 'fine' | 'never', text: string] {
  const o = m.last;
  if (runs(o)) return ['running', `order ${o?.number} is under way: ${o?.state}`];
  if (o?.waits) return ['running', `order ${o.number} waits for a person: ${o.sent_at ? `its request was sent${o.sent_to ? ` to ${o.sent_to}` : ''}` : 'its request is to be sent'}`];
  if (o?.failure) return ['failed', `order ${o.number} failed, ${o.failure.kind}: ${o.failure.words.replace(/^(.{140,160})\s.*$/s, '$1 …')}`];
  if (o?.not_after) return [m.seen_at > 0 ? 'fine' : 'never', `${placed(m)}, until ${new Date(o.not_after).toLocaleDateString('en-GB', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' })}`];
  return ['never', 'never ordered'];
}
