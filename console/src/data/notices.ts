import { calls, given, queryClient } from './client';

const changed = () => Promise.all(['/notices', '/owners', '/silences', '/feeds'].map((path) => queryClient.invalidateQueries({ queryKey: ['get', path] })));

const after = async <T>(call: Promise<T>) => { const v = await call; await changed(); return v; };

export const testNotice = (owner: string) => after(given(calls.POST('/notices/test', { body: { owner } })));
export const previewNotice = (owner: string, kind: 'events' | 'digest') => given(calls.POST('/notices/preview', { body: { owner, kind } }));
export const tryNotice = (id: number) => after(given(calls.POST('/notices/{id}/try', { params: { path: { id } } })));
export const silence = (owner: string, hours: number, reason: string) =>
  after(given(calls.POST('/silences', { body: { ...(owner ? { owner } : {}), until: new Date(Date.now() + hours * 3_600_000).toISOString(), reason } })));
export const endSilence = (id: number) => after(calls.DELETE('/silences/{id}', { params: { path: { id } } }));
export const makeFeed = (name: string, owner: string) => after(given(calls.POST('/feeds', { body: { name, ...(owner ? { owner } : {}) } })));
export const revokeFeed = (id: number) => after(calls.DELETE('/feeds/{id}', { params: { path: { id } } }));
