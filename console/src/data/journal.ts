import { calls } from './client';

/** Reads one page of the journal. */
export async function journalPage(query: { q?: string; cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/journal', { params: { query } });
  if (!data) throw error;
  return data;
}
