import { useInfiniteQuery } from '@tanstack/react-query';
import { api, calls, given, type Schemas } from './client';
import { changed, type Order } from './mandates';

/** A file somebody chose, as it is sent. */
export interface Chosen { name: string; content: string }

/** Reads files as base64: what is in them is the service's to judge. */
export async function chosen(files: readonly File[]): Promise<Chosen[]> {
  return Promise.all(files.map(async (f) => {
    let text = '';
    for (const b of new Uint8Array(await f.arrayBuffer())) text += String.fromCharCode(b);
    return { name: f.name, content: btoa(text) };
  }));
}

/** A pasted text as a file. */
export const pasted = (text: string): Chosen[] => (text.trim() ? [{ name: 'what was pasted', content: btoa(text) }] : []);

const after = async <T>(call: Promise<T>) => { const v = await call; await changed(); return v; };

/** A field that may be left out. */
const maybe = <K extends string>(key: K, value: string) => (value ? { [key]: value } as Record<K, string> : {});

export const takeCertificate = (files: Chosen[], passphrase: string, mandate: string) =>
  after(given(calls.POST('/certificates', { body: { files, ...maybe('passphrase', passphrase), ...maybe('mandate', mandate) } })));
export const takeReply = (files: Chosen[], passphrase: string, order?: number) =>
  after(given(calls.POST('/replies', { body: { files, ...maybe('passphrase', passphrase), ...(order ? { order } : {}) } })));
export const markSent = (number: number, to: string, day: string) =>
  after(given(calls.POST('/orders/{number}/sent', { params: { path: { number } }, body: { ...maybe('to', to), ...(day ? { expected_at: new Date(`${day}T23:59:59`).toISOString() } : {}) } })));
export const endOrder = (number: number) => after(given(calls.POST('/orders/{number}/end', { params: { path: { number } } })));

/** Orders that wait for a person. */
export const useWaiting = () => api.useQuery('get', '/orders', { params: { query: { waiting: true } } });

export type Authority = Schemas['Authority'];
export const useAuthority = (name: string) => api.useQuery('get', '/cas/{name}/authority', { params: { path: { name } } });
export function useIssued(name: string) {
  return useInfiniteQuery({
    queryKey: ['get', '/cas/{name}/certificates', name], initialPageParam: '',
    queryFn: ({ pageParam }) => given(calls.GET('/cas/{name}/certificates', { params: { path: { name }, query: { limit: 100, ...(pageParam ? { cursor: pageParam } : {}) } } })),
    getNextPageParam: (last: Schemas['IssuedPage']) => last.next_cursor,
  });
}
export const makeAuthority = (name: string, organization: string, permitted: string[]) =>
  after(given(calls.POST('/cas/{name}/authority', { params: { path: { name } }, body: { key: 'ecdsa-p384', root_days: 3650, issuing_days: 1095, ...maybe('organization', organization), ...(permitted.length > 0 ? { permitted } : {}) } })));
export const revokeIssued = async (name: string, serial: string, reason: Schemas['Revocation']['reason']) => {
  const { error } = await calls.POST('/cas/{name}/revocations', { params: { path: { name } }, body: { serial, reason } });
  if (error) throw error as unknown;
  await changed();
};
export const signRequest = (name: string, request: string) => after(given(calls.POST('/cas/{name}/certificates', { params: { path: { name } }, body: { request } })));

export const giveCertificate = async (order: number, body: Schemas['GiveRequest']) => (await given(calls.POST('/orders/{number}/certificate', { params: { path: { number: order } }, body }))).files;

export type Rolling = Schemas['Rolling'];
export const useRolling = (name: string) => api.useQuery('get', '/cas/{name}/rolling', { params: { path: { name } } });
export const rollAuthority = (name: string) => after(given(calls.POST('/cas/{name}/rolling', { params: { path: { name } }, body: {} })));
export const endRolling = (name: string, agreed: boolean) => after(given(calls.DELETE('/cas/{name}/rolling', { params: { path: { name }, query: { agreed } } })));

export type Account = Schemas['Account'];
export const useAccounts = () => api.useQuery('get', '/accounts');
const accounts = async (call: Promise<{ error?: unknown; response: Response }>) => {
  const { error, response } = await call;
  if (!response.ok) throw error;
  await changed();
};
export const tellContact = (name: string) => accounts(calls.PUT('/cas/{name}/account/contact', { params: { path: { name } } }));
export const newAccountKey = (name: string) => accounts(calls.POST('/cas/{name}/account/key', { params: { path: { name } } }));
export const endAccount = (name: string, used: boolean) => accounts(calls.DELETE('/cas/{name}/account', { params: { path: { name }, query: { used } } }));

/** What an order waits for, in words. */
export function waitsFor(o: Order, day: (t: string) => string): string {
  if (!o.sent_at) return 'its request waits to be sent';
  return `sent ${day(o.sent_at)}${o.sent_to ? ` to ${o.sent_to}` : ''}${o.expected_at ? `, a reply is expected by ${day(o.expected_at)}` : ''}`;
}
