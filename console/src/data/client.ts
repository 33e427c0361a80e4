import { QueryClient } from '@tanstack/react-query';
import createFetchClient from 'openapi-fetch';
import createQueryClient from 'openapi-react-query';
import type { components, paths } from './schema';

/** The only place that fetches. Types come from api/openapi.yaml. */
const base = new URL('/api/v1', location.origin).href;

export const calls = createFetchClient<paths>({ baseUrl: base });

export const api = createQueryClient(calls);

export const queryClient = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 2000, refetchOnWindowFocus: true } } });

export type Schemas = components['schemas'];
export type Problem = Schemas['Problem'];
export type Verdict = Schemas['Verdict'];
export type Severity = Schemas['Severity'];
export type Survey = Schemas['Survey'];
export type Finding = Schemas['Finding'];
export type Binding = Schemas['Binding'];
export type Certificate = Schemas['Certificate'];

/** Follows a survey's progress until it is finished; the result ends it. */
export function followSurvey(id: number, onProgress: (s: Survey) => void): () => void {
  const source = new EventSource(`${base}/surveys/${id}/events`);
  source.addEventListener('survey', (e: MessageEvent<string>) => {
    const survey = JSON.parse(e.data) as Survey;
    onProgress(survey);
    if (survey.state === 'finished') source.close();
  });
  return () => source.close();
}

/** What a call brought; its problem is thrown. */
export async function given<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  const { data, error } = await call;
  if (data === undefined) throw error as Problem;
  return data;
}

/** Reads a list page by page to its end. */
export async function every<T>(page: (cursor: { cursor?: string }) => Promise<{ items: T[]; next_cursor?: string }>): Promise<T[]> {
  const items: T[] = [];
  for (let cursor: string | undefined; ;) {
    const one = await page(cursor ? { cursor } : {});
    items.push(...one.items);
    cursor = one.next_cursor;
    if (!cursor) return items;
  }
}
