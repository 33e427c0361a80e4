import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { api, calls, followSurvey, type Survey } from './client';

/** The survey under way, live; every list is read anew when it ends. */
export function useRunningSurvey(): Survey | undefined {
  const newest = api.useQuery('get', '/surveys', { params: { query: { limit: 1 } } }, { refetchInterval: 5000 }).data?.items[0];
  const id = newest?.state === 'running' ? newest.id : undefined;
  const [live, setLive] = useState<Survey>();
  const cache = useQueryClient();
  useEffect(() => {
    if (id === undefined) return;
    return followSurvey(id, (s) => {
      setLive(s);
      if (s.state === 'finished') void cache.invalidateQueries();
    });
  }, [id, cache]);
  if (id === undefined) return undefined;
  return live?.id === id ? live : newest;
}

/** Starts a survey of the estate, or of one host. */
export function useStartSurvey() {
  const cache = useQueryClient();
  return api.useMutation('post', '/surveys', { onSettled: () => void cache.invalidateQueries({ queryKey: ['get', '/surveys'] }) });
}

type CertificateQuery = {
  q?: string; days_left_max?: number; kind?: 'host' | 'ca' | 'all'; in_use?: boolean; group?: string[]; owner?: string[]; tag?: string[]; limit?: number; cursor?: string;
  sort?: 'ends' | '-ends' | 'name' | '-name' | 'issuer' | '-issuer' | 'seen' | '-seen';
};

/** Reads one page of certificates. */
export async function certificatePage(query: CertificateQuery) {
  const { data, error } = await calls.GET('/certificates', { params: { query } });
  if (!data) throw error;
  return data;
}

/** Reads one page of bindings. */
export async function bindingPage(query: { q?: string; server?: string; verdict?: ('broken' | 'at-odds' | 'unknown' | 'agreed')[]; group?: string[]; owner?: string[]; tag?: string[]; sort?: 'host' | '-host'; cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/bindings', { params: { query } });
  if (!data) throw error;
  return data;
}
