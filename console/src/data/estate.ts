import { calls, given, queryClient, type Schemas } from './client';

export type DraftRequest = Schemas['DraftRequest'];

export const draftEstate = (body: DraftRequest) => given(calls.POST('/estate/draft', { body }));

export const previewEstate = (file: string, text: string) => given(calls.POST('/estate/preview', { body: { file, text, here: true } }));

/** Puts a file in force; everything read before is read anew. */
export async function applyEstate(file: string, text: string) {
  const done = await given(calls.POST('/estate/apply', { body: { file, text, here: true } }));
  await queryClient.invalidateQueries();
  return done;
}

/** Takes a host in, or makes one another that was. */
export async function keepHost(body: Schemas['HostRequest'], change: boolean) {
  const host = change ? await given(calls.PUT('/hosts/{host}', { params: { path: { host: body.name } }, body })) : await given(calls.POST('/hosts', { body }));
  await queryClient.invalidateQueries();
  return host;
}

export async function removeHost(host: string) {
  await calls.DELETE('/hosts/{host}', { params: { path: { host } } });
  await queryClient.invalidateQueries();
}
