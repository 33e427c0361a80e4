import { api, calls, type Schemas } from './client';

export type Kind = Schemas['Kind'];

/** The kinds of server, with what is possible for each; they do not change while the service runs. */
export function useKinds(): Kind[] {
  return api.useQuery('get', '/kinds', {}, { staleTime: Infinity }).data?.items ?? [];
}

/** Reads one page of servers. */
export async function serverPage(query: { q?: string; read?: boolean; sort?: 'name' | '-name'; cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/servers', { params: { query } });
  if (!data) throw error;
  return data;
}

/** Reads one page of a server's sites. */
export async function sitePage(name: string, query: { q?: string; in_force?: boolean; cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/servers/{name}/sites', { params: { path: { name }, query } });
  if (!data) throw error;
  return data;
}

/** Reads one page of the files of certificates and keys on a server. */
export async function materialPage(name: string, query: { unused?: boolean; cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/servers/{name}/material', { params: { path: { name }, query } });
  if (!data) throw error;
  return data;
}

/** Reads what changed on a server between its readings. */
export async function changePage(name: string, query: { cursor?: string; limit?: number }) {
  const { data, error } = await calls.GET('/servers/{name}/changes', { params: { path: { name }, query } });
  if (!data) throw error;
  return data;
}

/** The address of a line of a server's configuration, from "file:line". */
export function spotLink(server: string, spot: string): string {
  const at = spot.lastIndexOf(':');
  return `/servers/${encodeURIComponent(server)}/text?path=${encodeURIComponent(spot.slice(0, at))}&line=${spot.slice(at + 1)}`;
}

/** The end of a long path, which tells files apart. */
export function shortSpot(spot: string): string {
  const parts = spot.split('/');
  return parts.length > 4 ? `…/${parts.slice(-3).join('/')}` : spot;
}
