import { api, calls, queryClient, type Problem, type Schemas } from './client';

export type Role = Schemas['Role'];

export const roles: [Role, string][] = [['viewer', 'viewer: sees'], ['operator', 'operator: has work done'], ['admin', 'admin: decides']];

/** Who is signed in; null when nobody is. */
export function useWho() {
  return api.useQuery('get', '/session', {}, { retry: false, staleTime: 60_000 });
}

/** Whether who is signed in may do what a role may. */
export function useMay(role: Role): boolean {
  const who = useWho();
  const order: Role[] = ['viewer', 'operator', 'admin'];
  return who.data !== undefined && order.indexOf(who.data.role) >= order.indexOf(role);
}

// A call refused because the session has ended brings the sign-in back.
calls.use({
  onResponse({ response }) {
    if (response.status === 401 && !response.url.endsWith('/session')) void queryClient.resetQueries({ queryKey: ['get', '/session'] });
  },
});

/** Gives what a call answered, or throws its problem. */
async function done<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T | undefined> {
  const { data, error, response } = await call;
  if (!response.ok) throw error as Problem;
  return data;
}

/** Begins a session; everything read before is forgotten. */
export async function signIn(name: string, passphrase: string) {
  await done(calls.POST('/session', { body: { name, passphrase } }));
  await queryClient.resetQueries();
}

/** Uses a one-time link. */
export async function setUp(code: string, name: string, passphrase: string) {
  await done(calls.POST('/set-up', { body: { code, passphrase, ...(name ? { name } : {}) } }));
  location.assign('/');
}

/** Ends the session and forgets what was read in it. */
export async function signOut() {
  await done(calls.DELETE('/session'));
  queryClient.clear();
  location.assign('/');
}

export const changePassphrase = (before: string, next: string) => done(calls.PUT('/session/passphrase', { body: { before, next } }));

export const addPerson = (name: string, role: Role) => done(calls.POST('/people', { body: { name, role } }));
export const invitePerson = (person: string) => done(calls.POST('/people/{person}/invitation', { params: { path: { person } } }));
export const changePerson = (person: string, role: Role) => done(calls.PATCH('/people/{person}', { params: { path: { person } }, body: { role } }));
export const removePerson = (person: string) => done(calls.DELETE('/people/{person}', { params: { path: { person } } }));

export const makeToken = (name: string, scope: Role, days: number) => done(calls.POST('/tokens', { body: { name, scope, days } }));
export const revokeToken = (id: number) => done(calls.DELETE('/tokens/{id}', { params: { path: { id } } }));

/** Reads people and tokens again after a change. */
export const changed = () => Promise.all([queryClient.invalidateQueries({ queryKey: ['get', '/people'] }), queryClient.invalidateQueries({ queryKey: ['get', '/tokens'] })]);
