import { calls, given, queryClient, type Severity } from './client';

/** What a list of findings is asked for. */
export type FindingQuery = {
  q?: string; severity?: Severity[]; state?: 'open' | 'accepted' | 'closed' | 'all'; server?: string; group?: string[]; owner?: string[]; tag?: string[]; sort?: 'worst' | '-opened'; limit?: number; cursor?: string;
};

/** Reads one page of findings. */
export const findingPage = (query: FindingQuery) => given(calls.GET('/findings', { params: { query } }));

const changed = () => Promise.all([['get', '/today'], ['get', '/findings'], ['get', '/findings/{id}']].map((queryKey) => queryClient.invalidateQueries({ queryKey })));

/** Lets a finding be until the end of a day. */
export async function accept(id: number, until: string, reason: string) {
  await given(calls.PUT('/findings/{id}/acceptance', { params: { path: { id } }, body: { until: new Date(`${until}T23:59:59`).toISOString(), reason } }));
  await changed();
}

/** Opens a finding again that was accepted. */
export async function reopen(id: number) {
  await given(calls.DELETE('/findings/{id}/acceptance', { params: { path: { id } } }));
  await changed();
}
