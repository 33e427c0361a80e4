import { api, calls, given, queryClient, type Schemas } from './client';

export type Forecast = Schemas['Forecast'];
export type Drill = Schemas['Drill'];
export type Gone = Schemas['DrillRequest']['kind'];

export const useForecast = () => api.useQuery('get', '/forecast');

/** What a forecast holds for, in words: as things are, or under a limit of lives. */
export const under = (f: Forecast) => (f.limit === 0 ? 'As the dates are set' : `${f.limit} days`);

export const useDrills = () => api.useQuery('get', '/drills');

/** A drill with its work, read again while it is done. */
export function useDrill(number: number) {
  return api.useQuery('get', '/drills/{number}', { params: { path: { number } } }, { refetchInterval: (q) => (q.state.data && underWay(q.state.data) ? 1000 : false) });
}

const open = ['planned', 'under way'];

/** Whether anything of a drill that was begun is still to come. */
export const underWay = (d: Drill) => d.begun_at !== undefined && d.work.some((w) => !w.person && open.includes(w.state));

const drilled = async <T>(call: Promise<T>) => { const v = await call; await Promise.all(['/drills', '/drills/{number}'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] }))); return v; };

export const planDrill = (kind: Gone, what: string, hours: number) => drilled(given(calls.POST('/drills', { body: { kind, what, hours } })));
export const beginDrill = (number: number, rehearsal: boolean) => drilled(given(calls.POST('/drills/{number}', { params: { path: { number } }, body: { rehearsal } })));

export const useWithout = (sha256: string, audience: string) => api.useQuery('get', '/certificates/{sha256}/without', { params: { path: { sha256 }, query: audience ? { audience } : {} } });

/** So long as a drill says it, in words. */
export function lasting(seconds: number): string {
  if (seconds < 90) return `${Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  if (seconds < 172_800) return `${(seconds / 3600).toFixed(1)} h`;
  return `${Math.round(seconds / 86_400)} days`;
}
